"""A scan: walk a folder, read what is new or changed, mark what is gone. It never deletes."""

import os
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from django.db import transaction
from django.db.models import Q
from django.db.models.functions import Substr
from django.utils import timezone

from rumbrel.core.crew import default_jobs
from rumbrel.core.errors import RumbrelError
from rumbrel.core.files import content_mark
from rumbrel.core.forecast import Walk, walk_folder
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import Facts, inspect_file, inspect_many
from rumbrel.core.progress import Progress, Unit
from rumbrel.web.jobs.services import Desk
from rumbrel.web.ui.words import counted

from ..facts import (
    KEPT_VERSION,
    derived_columns,
    kept_facts,
    kept_path,
    restored_facts,
    search_words,
    storable,
    with_look,
)
from ..models import DeepLook, SourceFolder, Track, TrackFacts
from .add_folder import allowed_roots
from .cut_tracks import refresh_cuts
from .recount import recount_folder

__all__ = ["scan_folder"]

_ROWS_A_TURN = 400
_DERIVED = tuple(
    field.attname
    for field in Track._meta.concrete_fields
    if field.attname not in ("id", "folder_id", "path", "added_at", "sound", "cut_of_id") and not field.generated
)


@dataclass(slots=True)
class _Found:
    """What a scan has come across so far."""

    seen: set[int] = field(default_factory=set)
    homeless: list[int] = field(default_factory=list)
    touched: set[int] = field(default_factory=set)
    left: list[Path] = field(default_factory=list)
    changed_ns: dict[int, int] = field(default_factory=dict)
    ignored: int = 0
    read: int = 0
    moved: int = 0


def scan_folder(desk: Desk, folder_id: int) -> str:
    """Carry out the scan of a folder; returns what was found, in a sentence. Safe to run twice."""
    folder = SourceFolder.objects.get(pk=folder_id)
    root = Path(folder.path)
    if not root.is_dir():
        raise RumbrelError(f"{root} is not there. Connect its disk, then scan again; its tracks are kept.")
    desk.report(Progress(done=0, total=0, unit=Unit.FILES, step="looking for files"))
    others = SourceFolder.objects.exclude(pk=folder_id)
    inner = [Path(other.path) for other in others if Path(other.path).is_relative_to(root)]
    outer = [other.pk for other in others if root.is_relative_to(other.path)]
    walk = walk_folder(root, roots=allowed_roots(), leave_out=inner)
    known = _known(folder, outer, (*inner, *walk.unreadable))
    found = _Found()
    fresh = [path for path in walk.files if not _unchanged(path, folder, known, found)]
    _read(desk, folder, fresh, known, found, total=len(walk.files))
    if not root.is_dir():
        raise RumbrelError(f"{root} vanished during the scan. Its tracks are kept.")
    _take_home(folder, found.homeless)
    _note_change_times(found.changed_ns)
    gone = _mark_missing(folder, known, found)
    refresh_cuts(folder=folder)
    for touched in SourceFolder.objects.filter(pk__in={*found.touched, folder_id}):
        recount_folder(folder=touched)
    return _summary(found, gone, walk)


@dataclass(frozen=True, slots=True)
class _Known:
    pk: int
    size_bytes: int
    modified_ns: int
    changed_ns: int | None
    content_mark: str
    facts_version: int
    missing: bool
    folder_id: int


def _known(folder: SourceFolder, outer: Sequence[int], elsewhere: Sequence[Path]) -> dict[str, _Known]:
    """What is kept of the files below a folder, also those that an outer folder had before it; nothing of what
    lies where this scan does not look."""
    below = f"{folder.path.rstrip('/')}/"
    tracks = Track.objects.filter(Q(folder=folder) | Q(folder__in=outer, path__startswith=below), cut_of=None)
    hidden = tuple(f"{kept_path(path)}/" for path in elsewhere)
    names = (
        "path", "pk", "size_bytes", "modified_ns", "changed_ns", "content_mark", "facts_version", "missing_since", "folder_id",
    )  # fmt: skip
    return {
        path: _Known(pk, size, ns, changed, mark, version, gone is not None, folder_id)
        for path, pk, size, ns, changed, mark, version, gone, folder_id in tracks.values_list(*names)
        if not path.startswith(hidden)
    }


def _unchanged(path: Path, folder: SourceFolder, known: dict[str, _Known], found: _Found) -> bool:
    """Whether what is kept of a file still holds."""
    row = known.get(kept_path(path))
    if row is None or row.missing or row.facts_version != KEPT_VERSION:
        return False
    try:
        status = os.stat(path)
    except OSError:
        return False
    if (status.st_size, status.st_mtime_ns) != (row.size_bytes, row.modified_ns):
        return False
    if status.st_ctime_ns != row.changed_ns:
        # Its rights or its name may have changed, or its content by somebody who kept size and time.
        if row.changed_ns is not None and not _same_content(path, row):
            return False
        found.changed_ns[row.pk] = status.st_ctime_ns
    found.seen.add(row.pk)
    if row.folder_id != folder.pk:
        found.homeless.append(row.pk)
        found.touched.add(row.folder_id)
    return True


def _same_content(path: Path, row: _Known) -> bool:
    try:
        return content_mark(path, row.size_bytes) == row.content_mark
    except OSError:
        return False


def _note_change_times(changed_ns: Mapping[int, int]) -> None:
    rows = [Track(pk=pk, changed_ns=changed) for pk, changed in changed_ns.items()]
    for start in range(0, len(rows), _ROWS_A_TURN):
        Track.objects.bulk_update(rows[start : start + _ROWS_A_TURN], ["changed_ns"])


def _take_home(folder: SourceFolder, homeless: Sequence[int]) -> None:
    """Tracks that an outer folder had belong to this one now."""
    for start in range(0, len(homeless), _ROWS_A_TURN):
        turn = Track.objects.filter(pk__in=homeless[start : start + _ROWS_A_TURN])
        turn.update(folder=folder, relative=Substr("path", len(folder.path.rstrip("/")) + 2))


def _read(
    desk: Desk, folder: SourceFolder, fresh: Sequence[Path], known: dict[str, _Known], found: _Found, *, total: int
) -> None:
    """Inspect on all cores, and keep what was read a few hundred rows at a time."""
    before = total - len(fresh)

    def report(progress: Progress) -> None:
        done = before + progress.done
        desk.report(Progress(done=done, total=total, unit=Unit.FILES, step="reading", finished=int(done), items=total))

    waiting: list[tuple[Path, Facts]] = []
    for path, each in zip(fresh, inspect_many(fresh, deep=False, jobs=default_jobs(), report=report), strict=True):
        facts = each.facts
        if not facts.inspected:
            # What is kept of it stays as it is.
            found.left.append(path)
            found.seen.update([known[kept_path(path)].pk] if kept_path(path) in known else [])
            continue
        if not facts.sample_rate and path.suffix.lower() not in SOUND_SUFFIXES:
            found.ignored += 1
            continue
        waiting.append((path, facts))
        if len(waiting) >= _ROWS_A_TURN:
            _keep(folder, waiting, known, found)
            waiting.clear()
            if found.read % (10 * _ROWS_A_TURN) == 0:
                recount_folder(folder=folder)
    _keep(folder, waiting, known, found)


def _keep(folder: SourceFolder, rows: Sequence[tuple[Path, Facts]], known: dict[str, _Known], found: _Found) -> None:
    """Write tracks and their facts, new ones and changed ones alike."""
    root = Path(folder.path)
    looks = DeepLook.objects.select_related("track").filter(track__path__in=[kept_path(path) for path, _ in rows])
    marks = {kept_path(path): facts.content_mark for path, facts in rows}
    looked = {look.track.path: look for look in looks if look.track.content_mark in ("", marks[look.track.path])}
    # Another content of the same size and time was never looked at.
    DeepLook.objects.filter(pk__in=[look.pk for look in looks if look.track.path not in looked]).delete()
    rows = [(path, with_look(facts, looked.get(kept_path(path)))) for path, facts in _chosen_sounds(rows)]
    tracks = [
        derived_columns(
            Track(folder=folder, path=kept_path(path), relative=_relative(path, root), changed_ns=_changed_ns(path)),
            facts,
        )
        for path, facts in rows
    ]
    if not tracks:
        return
    with transaction.atomic():
        _know_again([track for track in tracks if track.path not in known], folder, found)
        stored = Track.objects.bulk_create(
            tracks, update_conflicts=True, unique_fields=["path"], update_fields=[*_DERIVED, "folder_id"]
        )
        TrackFacts.objects.bulk_create(
            [
                TrackFacts(track=track, data=kept_facts(facts), words=search_words(track, facts))
                for track, (_, facts) in zip(stored, rows, strict=True)
            ],
            update_conflicts=True,
            unique_fields=["track"],
            update_fields=["data", "words"],
        )
    found.seen.update(track.pk for track in stored)
    found.read += len(stored)


def _changed_ns(path: Path) -> int | None:
    try:
        return os.stat(path).st_ctime_ns
    except OSError:
        return None


def _chosen_sounds(rows: Sequence[tuple[Path, Facts]]) -> list[tuple[Path, Facts]]:
    """Files of several sounds are about the one that was chosen."""
    several = [kept_path(path) for path, facts in rows if facts.sound_streams > 1]
    chosen = dict(Track.objects.filter(path__in=several).exclude(sound="").values_list("path", "sound"))
    return [
        (path, inspect_file(path, sound=chosen[kept_path(path)]) if kept_path(path) in chosen else facts)
        for path, facts in rows
    ]


def _relative(path: Path, root: Path) -> str:
    return kept_path(path.relative_to(root) if path.is_relative_to(root) else Path(path.name))


def _know_again(new: Sequence[Track], folder: SourceFolder, found: _Found) -> None:
    """Files under names that nobody knew: where a track of the same content is no longer at its old name,
    it was moved or renamed, and the track goes with it, from whatever source folder."""
    marked = {track.content_mark for track in new if track.content_mark}
    gone = defaultdict(list)
    for track in (
        Track.objects.filter(content_mark__in=marked, cut_of=None)
        .exclude(pk__in=found.seen)
        .select_related("kept_facts")
    ):
        if not os.path.lexists(restored_facts(track.kept_facts.data).path):
            gone[track.size_bytes, track.content_mark].append(track)
    taken = set(Track.objects.filter(path__in=[track.path for track in new]).values_list("path", flat=True))
    for track in new:
        olds = gone[track.size_bytes, track.content_mark]
        if not olds or track.path in taken:
            continue
        name = os.path.basename(track.path)
        old = next((each for each in olds if os.path.basename(each.path) == name), olds[0])
        olds.remove(old)
        Track.objects.filter(pk=old.pk).update(path=track.path, relative=track.relative, folder=folder)
        found.touched.add(old.folder_id)
        found.moved += 1


@dataclass(frozen=True, slots=True)
class _Gone:
    """How many tracks were not found, and whether that was believed."""

    tracks: int
    believed: bool


def _mark_missing(folder: SourceFolder, known: dict[str, _Known], found: _Found) -> _Gone:
    """Tracks whose files are gone stay, with the date; lists that hold them keep their entries. Where most are
    gone, a disk is likelier to be missing than the files: that is asked first."""
    present = [row.pk for row in known.values() if not row.missing]
    gone = [pk for pk in present if pk not in found.seen]
    answer = SourceFolder.objects.filter(pk=folder.pk)
    if len(gone) > len(present) / 2 and not folder.loss_believed:
        answer.update(lost=len(gone))
        return _Gone(len(gone), believed=False)
    for start in range(0, len(gone), _ROWS_A_TURN):
        turn = Track.objects.filter(pk__in=gone[start : start + _ROWS_A_TURN])
        turn.update(missing_since=timezone.now(), fault="missing", usable=False, whole=False)
    answer.update(lost=0, loss_believed=False)
    return _Gone(len(gone), believed=True)


_MOST_NAMED = 3


def _summary(found: _Found, gone: _Gone, walk: Walk) -> str:
    parts = [counted(len(found.seen), "track")]
    if found.moved:
        parts.append(f"{counted(found.moved, 'file')} moved or renamed, known again")
    if found.ignored:
        parts.append(f"{counted(found.ignored, 'file')} without sound skipped")
    if gone.tracks and gone.believed:
        parts.append(f"{counted(gone.tracks, 'track')} no longer there, kept as missing")
    elif gone.tracks:
        parts.append(f"{counted(gone.tracks, 'track')} not found, and not believed to be gone yet")
    if found.left:
        text = (
            f"{counted(len(found.left), 'file')} could not be inspected for a reason outside them: {_named(found.left)}"
        )
        parts.append(f"{text}. Scan again")
    if walk.unreadable:
        parts.append(f"{counted(len(walk.unreadable), 'folder')} could not be read: {_named(walk.unreadable)}")
    if walk.doubled:
        parts.append(f"{counted(walk.doubled, 'link')} to files that are there skipped")
    if walk.led_out:
        parts.append(f"{counted(len(walk.led_out), 'link')} out of the allowed folders skipped: {_named(walk.led_out)}")
    return f"{'; '.join(parts)}."


def _named(paths: Sequence[Path]) -> str:
    names = ", ".join(storable(str(path)) for path in paths[:_MOST_NAMED])
    return f"{names} and {len(paths) - _MOST_NAMED:,} more" if len(paths) > _MOST_NAMED else names
