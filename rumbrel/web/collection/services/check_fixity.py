"""Fixity of the collection: digests kept, compared, taken as they are, written out and read in."""

import datetime
import os
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from rumbrel.core.crew import default_jobs
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.workflows.bag import unescaped
from rumbrel.core.workflows.fixity import (
    Digests,
    FixityFinding,
    FixityState,
    FixityTask,
    check_files,
    manifest_line,
)
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..facts import kept_path
from ..models import Fixity, FixityEvent, FixityWork, SourceFolder, Track
from ..queries import facts_by_id

__all__ = [
    "carry_out_fixity",
    "keep_checksums",
    "last_compared",
    "manifest_of",
    "note_edited_file",
    "plan_fixity",
    "start_due_fixity",
    "start_fixity",
    "take_as_it_is",
]

_EDITED = "tags edited here"
_TAKEN = "change accepted"
_FROM_LIST = "from a checksum list"
_CHANGED = (FixityState.TAGS, FixityState.SOUND)


def start_fixity(*, folder: SourceFolder | None) -> Job:
    """Queue a comparison; where one of the same is under way, that is the job."""
    with transaction.atomic():
        under_way = FixityWork.objects.filter(folder=folder, job__state__in=Job.ACTIVE).select_related("job").first()
        if under_way and under_way.job:
            return under_way.job
        work = FixityWork.objects.create(folder=folder)
        title = f"Fixity of {folder.name}" if folder else "Fixity of all tracks"
        work.job = start_job(kind="fixity", subject=work.pk, title=title)
        work.save(update_fields=["job"])
    return work.job


def plan_fixity(*, folder: SourceFolder, days: int) -> None:
    """Have a folder compared every so many days; 0 for on request alone."""
    SourceFolder.objects.filter(pk=folder.pk).update(fixity_days=days)


def _jobs_of(folder: SourceFolder) -> QuerySet[Job]:
    """Comparisons of a folder, or of all, the last first."""
    works = FixityWork.objects.filter(Q(folder=folder) | Q(folder=None)).exclude(job=None)
    return Job.objects.filter(pk__in=works.values("job")).order_by("-pk")


def last_compared(folder: SourceFolder) -> datetime.datetime | None:
    """When a comparison of a folder, or of all, was begun last that has been or will be carried out."""
    job = _jobs_of(folder).exclude(state__in=("failed", "stopped")).first()
    return job.created_at if job else None


def start_due_fixity() -> int:
    """Begin the comparisons that are due; returns how many. What failed or was stopped is left alone for a day. A time
    that lies ahead, since the clock was set back, counts by how far it is away: it does not put them off."""
    begun, now = 0, timezone.now()
    for folder in SourceFolder.objects.filter(fixity_days__gt=0):
        last, tried = last_compared(folder), _jobs_of(folder).first()
        if tried is not None and abs(now - tried.created_at) < datetime.timedelta(days=1):
            continue
        if last is None or abs(now - last) >= datetime.timedelta(days=folder.fixity_days):
            start_fixity(folder=folder)
            begun += 1
    return begun


def carry_out_fixity(desk: Desk, work_id: int) -> str:
    """Compare every file; what was compared before a stop is not compared again. Returns what was found."""
    work = FixityWork.objects.select_related("folder").get(pk=work_id)
    desk.report(Progress(done=0, total=0, unit=Unit.BYTES, step="looking for files"))
    # A part of a file is compared with its file.
    tracks = Track.objects.filter(folder=work.folder) if work.folder else Track.objects.all()
    tracks = tracks.filter(cut_of=None)
    counts, done = Counter(work.counts), set(work.done_ids)
    ids = [pk for pk in tracks.order_by("pk").values_list("pk", flat=True) if pk not in done]
    known = {row.track_id: row for row in Fixity.objects.filter(track__in=tracks)}
    tasks: list[FixityTask] = []
    left: list[FixityFinding] = []
    for pk, facts in facts_by_id(ids).items():
        kept = known.get(pk)
        digests = Digests(sha256=kept.sha256, sound=kept.sound) if kept else None
        tasks.append(FixityTask(id=pk, facts=facts, known=digests))
    try:
        for event in check_files(tasks, jobs=default_jobs()):
            if isinstance(event, Progress):
                desk.report(event)
            elif event.state is FixityState.NOT_COMPARED:
                left.append(event)
            else:
                _keep(event, known.get(event.id))
                counts[str(event.state)] += 1
                done.add(event.id)
    finally:
        FixityWork.objects.filter(pk=work.pk).update(counts=counts, done_ids=sorted(done))
    return _summary(counts, left)


def _keep(finding: FixityFinding, kept: Fixity | None) -> None:
    now = timezone.now()
    state, digests = str(finding.state), finding.digests
    with transaction.atomic():
        if not Track.objects.filter(pk=finding.id).exists():
            return
        if kept is None:
            if digests is None:
                return
            Fixity.objects.create(
                track_id=finding.id, sha256=digests.sha256, sound=digests.sound, now_sha256=digests.sha256,
                now_sound=digests.sound, state=FixityState.UNCHANGED, kept_at=now, checked_at=now,
            )  # fmt: skip
        else:
            Fixity.objects.filter(pk=kept.pk).update(
                state=state, error=finding.error, checked_at=now, now_sha256=digests.sha256 if digests else "",
                now_sound=digests.sound if digests else "",
                # What came from a checksum list knows of the file alone.
                sound=kept.sound or (digests.sound if digests and finding.state is FixityState.UNCHANGED else ""),
            )  # fmt: skip
        if kept is None or kept.state != state:
            FixityEvent.objects.create(track_id=finding.id, state=state, sha256=digests.sha256 if digests else "")


def _summary(counts: Counter[str], left: list[FixityFinding]) -> str:
    parts = [f"{counts[state]:,} {state}" for state in FixityState if counts[state]]
    parts += [f"{len(left):,} {FixityState.NOT_COMPARED}"] if left else []
    text = f"{', '.join(parts)}." if parts else "There was nothing to compare."
    return f"{text} {left[0].error}" if left else text


def take_as_it_is(*, track: Track) -> bool:
    """The user says that the change was meant: from now on the file is to be as it was found. False where nothing
    was found to be changed."""
    row = Fixity.objects.filter(track=track, state__in=_CHANGED).exclude(now_sha256="").first()
    if row is None:
        return False
    with transaction.atomic():
        row.sha256, row.sound = row.now_sha256, row.now_sound
        row.state, row.kept_at = FixityState.UNCHANGED, timezone.now()
        row.save()
        FixityEvent.objects.create(track=track, state=_TAKEN, sha256=row.sha256)
    return True


def note_edited_file(*, track_id: int, before: Digests, after: Digests) -> None:
    """A file whose tags were edited here is to be as it is now, where it was as it was to be right before."""
    row = Fixity.objects.filter(track_id=track_id, sha256=before.sha256).first()
    if row is None:
        return
    row.sha256 = row.now_sha256 = after.sha256
    row.sound = row.now_sound = after.sound
    row.state, row.error = FixityState.UNCHANGED, ""
    row.save()
    FixityEvent.objects.create(track_id=track_id, state=_EDITED, sha256=after.sha256)


def manifest_of(*, folder: SourceFolder) -> Iterator[bytes]:
    """Checksums of a folder's files as they are to be, by their names below it as the file system has them."""
    rows = Fixity.objects.filter(track__folder=folder).order_by("track__relative")
    for pk, sha256, relative in rows.values_list("track_id", "sha256", "track__relative").iterator():
        name = relative
        if "\\" in relative and (facts := facts_by_id([pk]).get(pk)):
            # Bytes that are no UTF-8 are kept escaped; the facts have the name as it is.
            name = "/".join(Path(facts.path).parts[-len(Path(relative).parts) :])
        yield os.fsencode(manifest_line(sha256, name))


def keep_checksums(*, folder: SourceFolder, checksums: dict[str, str]) -> str:
    """Add a list of checksums: files of which nothing was kept are to be as it says. Returns what came of it."""
    tracks = {track.relative: track for track in folder.tracks.select_related("fixity")}
    new: dict[int, Fixity] = {}
    equal, different = 0, []
    for listed, sha256 in checksums.items():
        # Names may begin with the folder's own; those of a bag have some signs escaped.
        names = [kept_path(Path(text)) for text in (listed, unescaped(listed))]
        track = next(
            (tracks[each] for name in names for each in (name, name.partition("/")[2]) if each in tracks), None
        )
        if track is None:
            continue
        row = getattr(track, "fixity", None) or new.get(track.pk)
        if row is None:
            new[track.pk] = Fixity(track=track, sha256=sha256, state=_FROM_LIST, kept_at=timezone.now())
        elif row.sha256 == sha256:
            equal += 1
        else:
            different.append(track.relative)
    with transaction.atomic():
        Fixity.objects.bulk_create(new.values())
        FixityEvent.objects.bulk_create(
            [FixityEvent(track=row.track, state=_FROM_LIST, sha256=row.sha256) for row in new.values()]
        )
    unknown = len(checksums) - len(new) - equal - len(different)
    parts = [f"{counted(len(new), 'checksum')} kept, to be compared"]
    parts += [f"{equal:,} the same as kept"] if equal else []
    parts += [f"{len(different):,} other than kept, which stays: {', '.join(different[:3])}"] if different else []
    parts += [f"{counted(unknown, 'name')} of no track here"] if unknown else []
    return f"{'; '.join(parts)}."
