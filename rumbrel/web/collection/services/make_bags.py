"""Tracks handed over as a bag in the results folder."""

from collections.abc import Sequence
from pathlib import Path

from django.conf import settings
from django.db import transaction

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.places import file_system_for
from rumbrel.core.places.names import clean_name
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.workflows.bag import BagFile, make_bag
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import BagWork, Fixity
from ..queries import known_tracks
from .hear_track import see_that_it_is_there

__all__ = ["carry_out_bag", "start_bag"]

_NAMES = file_system_for("fat32")
"""A bag may go to any kind of disk."""


def start_bag(*, name: str, track_ids: Sequence[int], description: str = "") -> Job:
    """Queue a bag. Raises RumbrelError where there is nothing to be put in, or the name is taken."""
    if not clean_name(name, _NAMES).strip("-_ "):
        raise OutputError(f"A bag cannot be called '{name}'. Use letters or digits.")
    if not track_ids:
        raise OutputError("There is no track to put into a bag. Pull tracks first.")
    if _place(name).exists():
        raise OutputError(f"A bag called {name} is there already: {_place(name)}. Choose another name.")
    with transaction.atomic():
        work = BagWork.objects.create(name=name, description=description, track_ids=list(track_ids))
        work.job = start_job(kind="bag", subject=work.pk, title=f"Bag {name}")
        work.save(update_fields=["job"])
    return work.job


def _place(name: str) -> Path:
    return settings.RUMBREL.results / "bags" / clean_name(name, _NAMES)


def carry_out_bag(desk: Desk, work_id: int) -> str:
    """Make a bag; returns what it holds and where it is. Begins anew after a stop: half a bag is none."""
    work = BagWork.objects.get(pk=work_id)
    tracks = known_tracks(work.track_ids)
    gone = [track.title for track in tracks if track.missing or track.facts is None]
    if gone or len(tracks) < len(work.track_ids):
        missing = len(gone) + len(work.track_ids) - len(tracks)
        raise RumbrelError(
            f"{counted(missing, 'file')} not there: {', '.join(gone[:3])}. Connect the disk, then try again."
        )
    kept = dict(Fixity.objects.filter(track__in=work.track_ids).values_list("track_id", "sha256"))
    several = len({track.folder for track in tracks}) > 1
    files, total, taken = [], 0, set[str]()
    for track in tracks:
        # Of a file that is there in parts, the whole goes in, once.
        if track.facts is None or track.facts.path in taken:
            continue
        taken.add(track.facts.path)
        see_that_it_is_there(track.facts)
        name = "/".join(Path(track.facts.path).parts[-len(Path(track.relative).parts) :])
        # Of several source folders each gets one of its own.
        name = f"{Path(track.folder).name}/{name}" if several else name
        files.append(BagFile(path=Path(track.facts.path), name=name, sha256=kept.get(track.pk, "")))
        total += track.facts.size_bytes

    def report(done: int) -> None:
        desk.report(Progress(done=done, total=total, unit=Unit.BYTES, step="copying and comparing"))

    bag = make_bag(files, _place(work.name), description=work.description, report=report)
    BagWork.objects.filter(pk=work.pk).update(path=str(bag.path))
    known = sum(bool(file.sha256) for file in files)
    text = f"{counted(bag.files, 'file')} in {bag.path}, {known:,} of them as fixity keeps them"
    return f"{text}."
