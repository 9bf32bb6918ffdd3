"""A scan: walk a folder, read what is new or changed, mark what is gone. It never deletes."""

import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from django.db import transaction
from django.db.models import Count, Max, Sum
from django.utils import timezone

from rumbrel.core.crew import default_jobs
from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import Source, gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import Facts, inspect_many
from rumbrel.core.progress import Progress, Unit
from rumbrel.web.jobs.services import Desk
from rumbrel.web.ui.words import counted

from ..facts import KEPT_VERSION, derived_columns, kept_facts, kept_path, search_words
from ..models import Facet, SourceFolder, Track, TrackFacts

__all__ = ["recount_folder", "scan_folder"]

_ROWS_A_TURN = 400
_DERIVED = tuple(
    field.attname for field in Track._meta.concrete_fields if field.attname not in ("id", "folder_id", "path")
)


@dataclass(slots=True)
class _Found:
    """What a scan has come across so far."""

    seen: set[int] = field(default_factory=set)
    ignored: int = 0
    read: int = 0


def scan_folder(desk: Desk, folder_id: int) -> str:
    """Carry out the scan of a folder; returns what was found, in a sentence. Safe to run twice."""
    folder = SourceFolder.objects.get(pk=folder_id)
    root = Path(folder.path)
    if not root.is_dir():
        raise RumbrelError(f"{root} is not there. Connect its disk, then scan again; its tracks are kept.")
    desk.report(Progress(done=0, total=0, unit=Unit.FILES, step="looking for files"))
    sources = gather_sources([root])
    known = _known(folder)
    found = _Found()
    fresh = [source for source in sources if not _unchanged(source, known, found)]
    _read(desk, folder, fresh, known, found, total=len(sources))
    if not root.is_dir():
        raise RumbrelError(f"{root} vanished during the scan. Its tracks are kept.")
    gone = _mark_missing(known, found.seen)
    recount_folder(folder=folder)
    return _summary(len(found.seen), found, gone)


@dataclass(frozen=True, slots=True)
class _Known:
    pk: int
    size_bytes: int
    modified_ns: int
    facts_version: int
    missing: bool


def _known(folder: SourceFolder) -> dict[str, _Known]:
    rows = folder.tracks.values_list("path", "pk", "size_bytes", "modified_ns", "facts_version", "missing_since")
    return {path: _Known(pk, size, ns, version, gone is not None) for path, pk, size, ns, version, gone in rows}


def _unchanged(source: Source, known: dict[str, _Known], found: _Found) -> bool:
    """Whether what is kept of a file still holds."""
    row = known.get(kept_path(source.path))
    if row is None or row.missing or row.facts_version != KEPT_VERSION:
        return False
    try:
        status = os.stat(source.path)
    except OSError:
        return False
    if (status.st_size, status.st_mtime_ns) != (row.size_bytes, row.modified_ns):
        return False
    found.seen.add(row.pk)
    return True


def _read(
    desk: Desk, folder: SourceFolder, fresh: Sequence[Source], known: dict[str, _Known], found: _Found, *, total: int
) -> None:
    """Inspect on all cores, and keep what was read a few hundred rows at a time."""
    before = total - len(fresh)

    def report(progress: Progress) -> None:
        done = before + progress.done
        desk.report(Progress(done=done, total=total, unit=Unit.FILES, step="reading", finished=int(done), items=total))

    waiting: list[tuple[Source, Facts]] = []
    deep = inspect_many([source.path for source in fresh], deep=False, jobs=default_jobs(), report=report)
    for source, each in zip(fresh, deep, strict=True):
        facts = each.facts
        if not facts.sample_rate and source.path.suffix.lower() not in SOUND_SUFFIXES:
            found.ignored += 1
            continue
        waiting.append((source, facts))
        if len(waiting) >= _ROWS_A_TURN:
            _keep(folder, waiting, found)
            waiting.clear()
            if found.read % (10 * _ROWS_A_TURN) == 0:
                recount_folder(folder=folder)
    _keep(folder, waiting, found)


def _keep(folder: SourceFolder, rows: Iterable[tuple[Source, Facts]], found: _Found) -> None:
    """Write tracks and their facts, new ones and changed ones alike."""
    tracks, kept = [], []
    for source, facts in rows:
        track = Track(folder=folder, path=kept_path(source.path), relative=kept_path(source.relative))
        tracks.append(derived_columns(track, facts))
        kept.append(facts)
    if not tracks:
        return
    with transaction.atomic():
        stored = Track.objects.bulk_create(
            tracks, update_conflicts=True, unique_fields=["path"], update_fields=[*_DERIVED, "folder_id"]
        )
        TrackFacts.objects.bulk_create(
            [
                TrackFacts(track=track, data=kept_facts(facts), words=search_words(track, facts))
                for track, facts in zip(stored, kept, strict=True)
            ],
            update_conflicts=True,
            unique_fields=["track"],
            update_fields=["data", "words"],
        )
    found.seen.update(track.pk for track in stored)
    found.read += len(stored)


def _mark_missing(known: dict[str, _Known], seen: set[int]) -> int:
    """Tracks whose files are gone stay, with the date; lists that hold them keep their entries."""
    gone = [row.pk for row in known.values() if row.pk not in seen and not row.missing]
    for start in range(0, len(gone), _ROWS_A_TURN):
        turn = Track.objects.filter(pk__in=gone[start : start + _ROWS_A_TURN])
        turn.update(missing_since=timezone.now(), fault="missing", usable=False, whole=False)
    return len(gone)


def recount_folder(*, folder: SourceFolder) -> None:
    """Bring the kept counts of a folder into line with its tracks."""
    rows = (
        folder.tracks.order_by()
        .values("format", "sample_rate", "fault")
        .annotate(n=Count("pk"), s=Sum("seconds"), b=Sum("size_bytes"), longest=Max("seconds"))
    )
    facets = [
        Facet(
            folder=folder, format=row["format"], sample_rate=row["sample_rate"], fault=row["fault"], tracks=row["n"],
            seconds=row["s"], size_bytes=row["b"], longest_seconds=row["longest"],
        )
        for row in rows
    ]  # fmt: skip
    with transaction.atomic():
        folder.facets.all().delete()
        Facet.objects.bulk_create(facets)


def _summary(tracks: int, found: _Found, gone: int) -> str:
    text = counted(tracks, "track")
    if found.ignored:
        text += f"; {counted(found.ignored, 'file')} without sound ignored"
    if gone:
        text += f"; {counted(gone, 'track')} not there any more, kept as missing"
    return f"{text}."
