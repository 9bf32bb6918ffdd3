"""The deep look: decode tracks in the background, keep what that tells, and make its findings facts."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from django.conf import settings
from django.db import transaction

from rumbrel.core.crew import default_jobs
from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast.ledger import made_here
from rumbrel.core.inspection import DeepFacts, Facts, FaultCode, inspect_file
from rumbrel.core.inspection.stretches import part_of
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.records import as_record
from rumbrel.core.workflows.look import Looked, LookTask, look_at_tracks
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..facts import is_of
from ..models import DeepLook, LookWork, SourceFolder, Track
from ..pictures import picture_path
from ..queries import known_tracks
from .keep_facts import keep_facts
from .recount import recount_folder

__all__ = ["NothingToLookAt", "carry_out_looks", "look_under_way", "start_looks", "sweep_pictures"]


class NothingToLookAt(RumbrelError):
    """No track was named."""


def sweep_pictures() -> int:
    """Remove pictures of tracks that left the collection; returns how many."""
    known, removed = set(DeepLook.objects.values_list("pk", flat=True)), 0
    for path in settings.RUMBREL.pictures.glob("*.npz"):
        if path.stem.isdecimal() and int(path.stem) not in known:
            path.unlink(missing_ok=True)
            removed += 1
    return removed


def look_under_way(track_id: int) -> Job | None:
    """The job that is to look at a track, or does."""
    works = LookWork.objects.filter(job__state__in=Job.ACTIVE).select_related("job")
    return next((work.job for work in works if track_id in work.track_ids), None)


def start_looks(*, track_ids: Sequence[int]) -> Job:
    """Queue a look at tracks. Raises NothingToLookAt."""
    if not track_ids:
        raise NothingToLookAt("No track to analyse. Choose others in the collection.")
    with transaction.atomic():
        if len(track_ids) == 1 and (job := look_under_way(track_ids[0])) is not None:
            return job
        work = LookWork.objects.create(track_ids=list(track_ids))
        first = Track.objects.filter(pk=track_ids[0]).first()
        title = f"Analysis: {first}" if len(track_ids) == 1 else f"Analyse {counted(len(track_ids), 'track')}"
        work.job = start_job(kind="look", subject=work.pk, title=title)
        work.save(update_fields=["job"])
    return work.job


def carry_out_looks(desk: Desk, work_id: int) -> str:
    """Look at what has not been looked at; returns what was found, in a sentence. Safe to run twice."""
    work = LookWork.objects.get(pk=work_id)
    desk.report(Progress(done=0, total=0, unit=Unit.SECONDS, step="looking for files"))
    known = {track.pk: track for track in known_tracks(work.track_ids)}
    looks = DeepLook.objects.in_bulk(list(known))
    tasks, there, gone = [], 0, 0
    for track in known.values():
        facts = track.facts
        look = looks.get(track.pk)
        if facts is None or track.missing:
            gone += 1
        elif look and is_of(look, facts) and not look.error and picture_path(track.pk).exists():
            there += 1
        else:
            path, picture = Path(facts.path), picture_path(track.pk)
            tasks.append(
                LookTask(
                    id=track.pk, path=path, picture=picture, seconds=facts.duration_seconds, sound=facts.sound_wish,
                    part=part_of(facts),
                )
            )  # fmt: skip
    faulty = failed = 0
    touched: set[int] = set()
    for event in look_at_tracks(tasks, jobs=default_jobs()):
        if isinstance(event, Progress):
            desk.report(event)
        else:
            look = _keep(event, touched)
            faulty, failed = faulty + bool(look.faults), failed + bool(look.error)
    for folder in SourceFolder.objects.filter(pk__in=touched):
        recount_folder(folder=folder)
    parts = [f"{counted(len(tasks) - failed, 'track')} analysed"]
    parts += [f"{there:,} before"] if there else []
    parts += [f"new faults in {faulty:,}"] if faulty else []
    parts += [f"{failed:,} could not be"] if failed else []
    parts += [f"{gone:,} not there"] if gone else []
    return f"{', '.join(parts)}."


def _keep(looked: Looked, touched: set[int]) -> DeepLook:
    """The look, and the track with the faults that it showed."""
    with transaction.atomic():
        track = Track.objects.filter(pk=looked.id).first()
        if track is None:
            return DeepLook(error="removed meanwhile")
        if looked.found is None and not looked.of_file:
            return DeepLook(error=looked.error)
        if looked.found is None:
            return _failed(track, looked.error)
        looked, made_of = _without_what_is_known(looked)
        assert looked.found is not None
        facts = looked.found.facts
        look, _ = DeepLook.objects.update_or_create(
            track=track,
            defaults={
                "data": {**_record(looked.found), "made_of": made_of}, "faults": as_record(looked.shown), "error": "",
                "size_bytes": facts.size_bytes, "modified_ns": facts.modified_ns, "digest": looked.found.digest,
            },
        )  # fmt: skip
        folder = keep_facts(track_id=track.pk, facts=facts)
        touched.update([folder] if folder is not None else [])
    return look


def _without_what_is_known(looked: Looked) -> tuple[Looked, str]:
    """(a look without the doubts about a result of our own that its source answers, that source's name). A file that was
    made here of a lossy one is of a lossy one, and one whose rate was raised here has the rate that was asked for."""
    found = looked.found
    doubts = [fault for fault in looked.shown if fault.code is FaultCode.DOUBTFUL_LOSSLESS]
    if found is None or not doubts:
        return looked, ""
    entry = made_here(settings.RUMBREL.ledger, Path(found.facts.path))
    source = inspect_file(Path(entry.source)) if entry is not None else None
    if source is None or not source.usable or not _answers(source, found):
        return looked, ""
    kept = tuple(fault for fault in found.facts.faults if fault not in doubts)
    shown = tuple(fault for fault in looked.shown if fault not in doubts)
    found = replace(found, facts=replace(found.facts, faults=kept))
    return replace(looked, found=found, shown=shown), Path(source.path).name


def _answers(source: Facts, found: DeepFacts) -> bool:
    return not source.lossless if found.loss else source.sample_rate < found.facts.sample_rate


def _failed(track: Track, error: str) -> DeepLook:
    """What an earlier look at this very file told stays; what one at another told does not."""
    look = DeepLook.objects.filter(track=track).first()
    if look is None or not is_of(look, track):
        look = DeepLook(track=track, size_bytes=track.size_bytes, modified_ns=track.modified_ns)
    look.error = error
    look.save()
    return look


def _record(found: DeepFacts) -> dict[str, object]:
    return {name: value for name, value in found.as_record().items() if name != "picture"}
