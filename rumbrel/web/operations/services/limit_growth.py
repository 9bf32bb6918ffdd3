"""What grows while Rumbrel is used, and the limits within which some of it is kept."""

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.db import transaction

from rumbrel.web.accounts.services import forget_old_records
from rumbrel.web.jobs.models import Job

__all__ = ["Growth", "growths", "keep_within_limits"]

MOST_ENDED_JOBS = 5_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Growth:
    """A folder that grows. limit_bytes is None where nothing goes by itself; rule says what goes, and when."""

    name: str
    folder: Path
    size_bytes: int
    files: int
    rule: str
    limit_bytes: int | None = None


def growths() -> list[Growth]:
    """Everything in the data folder, the largest first."""
    ours = settings.RUMBREL
    made_again = "the oldest go beyond the limit; they are made again when they are wanted"
    heard_again = "the sound heard longest ago is removed when another is decoded"
    rows = [
        ("pictures of sound", ours.pictures, made_again, ours.most_picture_bytes),
        ("decoded to be heard", ours.listening, heard_again, ours.most_listening_bytes),
        ("results", ours.results, "yours: deleted by you with a batch's folder", None),
        ("disc images", ours.discs, "yours: deleted by you", None),
        ("dropped files", ours.dropped, "your sources: deleted by you", None),
        ("images on the shelf", ours.shelf, "yours: deleted by you", None),
        ("discs being read", ours.reading, "removed when the tracks are made", None),
        ("stand-in volumes", ours.volumes, "formatted on the bench", None),
        ("ways back of edits", ours.undo, "removed with its edit", None),
        ("covers chosen for results", ours.covers, "removed with the choice", None),
        ("lists of results", ours.ledger, "a line a result; needed to know finished work again", None),
        ("own targets and their versions", ours.targets, "yours: removed on the target's page", None),
    ]
    found = [
        Growth(name=name, folder=folder, size_bytes=size, files=files, rule=rule, limit_bytes=limit)
        for name, folder, rule, limit in rows
        for size, files in (_size_of(folder),)
    ]
    database = sum(path.stat().st_size for path in ours.data.glob("*.sqlite3*") if path.is_file())
    rule = f"the last {MOST_ENDED_JOBS:,} ended jobs are kept"
    found.append(Growth(name="database", folder=ours.data, size_bytes=database, files=1, rule=rule))
    return sorted(found, key=lambda row: -row.size_bytes)


def _files(folder: Path) -> Iterator[tuple[float, int, Path]]:
    """(when it was changed, bytes, path) of every file below a folder."""
    for parent, _, names in os.walk(folder):
        for name in names:
            path = Path(parent, name)
            try:
                status = path.lstat()
            except OSError:
                continue
            yield status.st_mtime, status.st_size, path


def _size_of(folder: Path) -> tuple[int, int]:
    sizes = [size for _, size, _ in _files(folder)]
    return sum(sizes), len(sizes)


def keep_within_limits() -> int:
    """Remove the oldest of what has a limit that nobody else keeps; returns how many files and jobs went."""
    ours = settings.RUMBREL
    removed = _oldest_off(ours.pictures, ours.most_picture_bytes)
    ended = Job.objects.exclude(state__in=Job.ACTIVE).order_by("-pk")
    with transaction.atomic():
        first_kept = ended.values_list("pk", flat=True)[MOST_ENDED_JOBS - 1 : MOST_ENDED_JOBS].first()
        if first_kept is not None:
            removed += ended.filter(pk__lt=first_kept).delete()[0]
    return removed + forget_old_records()


def _oldest_off(folder: Path, most_bytes: int) -> int:
    files = sorted(_files(folder))
    over = sum(size for _, size, _ in files) - most_bytes
    removed = 0
    for _, size, path in files:
        if over <= 0:
            break
        path.unlink(missing_ok=True)
        over, removed = over - size, removed + 1
    return removed
