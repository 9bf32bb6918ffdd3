"""Whether this installation is as it should be: packages, folders, room, permissions, clock, workers, database."""

import os
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from importlib import metadata
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor
from django.utils import timezone

import rumbrel
from rumbrel.core.verdict import Verdict
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.watch import SECONDS_BETWEEN_LOOKS, seconds_since_beat

from .look_for_files import missing_places

__all__ = ["Check", "check_self"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """What was looked at, how it is, and what to do where it is not as it should be."""

    name: str
    verdict: Verdict
    said: str
    remedy: str = ""


def check_self(*, running: bool = True) -> list[Check]:
    """running says that Rumbrel is meant to be at work: then its workers are looked for too."""
    parts: list[Callable[[], Iterator[Check]]] = [_packages, _permissions, _roots, _room, _clock, _database, _files]
    if running:
        parts.append(_workers)
    return [check for part in parts for check in part()]


def _right(name: str, said: str) -> Check:
    return Check(name=name, verdict=Verdict.PASSED, said=said)


def _wrong(name: str, said: str, remedy: str, verdict: Verdict = Verdict.FAILED) -> Check:
    return Check(name=name, verdict=verdict, said=said, remedy=remedy)


def _packages() -> Iterator[Check]:
    """Against the pins that are installed with Rumbrel's own lock."""
    lock = settings.BASE_DIR / "requirements.lock"
    try:
        lines = [
            line.split(" ")[0] for line in lock.read_text().splitlines() if "==" in line and not line.startswith(" ")
        ]
    except OSError:
        yield _wrong("packages", f"{lock} cannot be read", "Install Rumbrel again.", Verdict.DOUBTFUL)
        return
    wrong = []
    for name, _, wanted in (line.partition("==") for line in lines):
        try:
            found = metadata.version(name)
        except metadata.PackageNotFoundError:
            found = "none"
        if found != wanted:
            wrong.append(f"{name} {found} instead of {wanted}")
    if wrong:
        yield _wrong("packages", "; ".join(wrong[:3]) + (f" and {len(wrong) - 3} more" if len(wrong) > 3 else ""),
                     "Run ./run setup.")  # fmt: skip
    else:
        yield _right("packages", f"{len(lines)} packages as pinned")


def _permissions() -> Iterator[Check]:
    data: Path = settings.RUMBREL.data
    open_ones = [path for path in (data, data / "secret-key") if path.exists() and path.stat().st_mode & 0o077]
    if open_ones:
        yield _wrong("permissions", f"others can read {open_ones[0]}", f"Run: chmod go-rwx '{open_ones[0]}'")
    else:
        yield _right("permissions", f"{data} is its owner's alone")
    try:
        with tempfile.NamedTemporaryFile(dir=data):
            yield _right("data folder", "can be written")
    except OSError as error:
        yield _wrong(
            "data folder", f"{data} cannot be written: {error.strerror}", "Make room, or change its permissions."
        )


def _roots() -> Iterator[Check]:
    for root in settings.RUMBREL.roots:
        if not root.is_dir():
            yield _wrong(
                f"folder {root}", "is not there", "Connect its disk, or change RUMBREL_ROOTS.", Verdict.DOUBTFUL
            )
        elif not os.access(root, os.R_OK | os.X_OK):
            yield _wrong(f"folder {root}", "cannot be read", "Change its permissions, or RUMBREL_ROOTS.")
        else:
            yield _right(f"folder {root}", "is there and can be read")


_LEAST_FREE_BYTES, _LITTLE_FREE_BYTES = 500_000_000, 5_000_000_000


def _room() -> Iterator[Check]:
    free = shutil.disk_usage(settings.RUMBREL.data).free
    said = f"{free / 1e9:.1f} GB are free at {settings.RUMBREL.data}"
    if free >= _LITTLE_FREE_BYTES:
        yield _right("room", said)
    else:
        verdict = Verdict.FAILED if free < _LEAST_FREE_BYTES else Verdict.DOUBTFUL
        yield _wrong("room", said, "Make room, or move the data folder to a larger disk (RUMBREL_DATA).", verdict)


_LATEST_SKEW_SECONDS = 120


def _clock() -> Iterator[Check]:
    """Against the disk's clock, and against what the database says was done already."""
    with tempfile.NamedTemporaryFile(dir=settings.RUMBREL.data) as file:
        skew = abs(Path(file.name).stat().st_mtime - time.time())
    try:
        last = Job.objects.exclude(heartbeat=None).order_by("-heartbeat").values_list("heartbeat", flat=True).first()
    except DatabaseError:
        last = None
    ahead = (last - timezone.now()).total_seconds() if last else 0.0
    if skew > _LATEST_SKEW_SECONDS:
        yield _wrong(
            "clock", f"this machine and its disk differ by {skew:.0f} s", "Have both take their time from one source."
        )
    elif ahead > _LATEST_SKEW_SECONDS:
        yield _wrong("clock", f"work was done {ahead / 60:.0f} min in the future: the clock was set back",
                     "Set the clock, then start Rumbrel again.", Verdict.DOUBTFUL)  # fmt: skip
    else:
        yield _right("clock", f"{timezone.now():%Y-%m-%d %H:%M} UTC, as the disk has it")


def _database() -> Iterator[Check]:
    path = Path(settings.DATABASES["default"]["NAME"])
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=20)) as live:
            said = live.execute("PRAGMA quick_check").fetchone()[0]
            strays = live.execute("PRAGMA foreign_key_check").fetchall()
    except sqlite3.Error as error:
        if connection.in_atomic_block or "unable to open" not in str(error):
            said, strays = str(error), []
        else:
            yield _wrong("database", "is not there yet", "Start Rumbrel once.", Verdict.DOUBTFUL)
            return
    if said != "ok":
        yield _wrong("database", f"is damaged: {said}", "Restore the last backup: ./run restore FILE.")
    elif strays:
        yield _wrong("database", f"{len(strays)} rows lead to nothing", "Restore the last backup: ./run restore FILE.")
    else:
        yield _right("database", f"whole, {path.stat().st_size / 1e6:.1f} MB")
    try:
        plan = MigrationExecutor(connection).loader
        missing = set(plan.graph.leaf_nodes()) - set(plan.applied_migrations)
    except DatabaseError as error:
        yield _wrong("database version", str(error), "Start Rumbrel once.")
        return
    known = set(plan.disk_migrations)
    newer = sorted(
        each for each in plan.applied_migrations if each not in known and each[0] in {app for app, _ in known}
    )
    if newer:
        text = f"made by a newer version than this one, {rumbrel.__version__}: it has {newer[0][0]} {newer[0][1]}"
        yield _wrong("database version", text, "Start the newer version again, or restore a backup of this one.")
    elif missing:
        yield _wrong(
            "database version", f"{len(missing)} changes are missing", "Start Rumbrel, which brings it up to date."
        )
    else:
        yield _right("database version", f"up to date, for version {rumbrel.__version__}")


def _files() -> Iterator[Check]:
    """A sample of everything that the database names is opened."""
    try:
        missing = missing_places()
    except DatabaseError:
        # What is wrong with it stands above.
        return
    for each in missing:
        remedy = "Connect its disk; after a move, restore with --place OLD=NEW."
        yield _wrong("files", f"{each.path} is not there ({each.what})", remedy, Verdict.DOUBTFUL)
    if not missing:
        yield _right("files", "source folders, and a sample of sources, results and disc images, can be opened")


def _workers() -> Iterator[Check]:
    since = seconds_since_beat()
    if since is None or since > 12 * SECONDS_BETWEEN_LOOKS:
        said = "no worker carries out jobs" if since is None else f"no worker has been active for {since / 60:.0f} min"
        yield _wrong("workers", said, "Start Rumbrel: ./run start. If it runs, its log says why they end.")
    else:
        active = Job.objects.filter(state__in=Job.ACTIVE).count()
        yield _right("workers", f"at work, {active} jobs run or wait")
