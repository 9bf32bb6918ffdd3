"""Backups on a schedule: taken, checked, restored for a trial, and thinned by number."""

import os
import re
import sqlite3
import subprocess
import sys
import tempfile
from contextlib import closing
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.utils import timezone

import rumbrel
from rumbrel.core.errors import OutputError
from rumbrel.core.progress import Progress, Unit
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import BackupPlan
from .back_up import BackupRefused, back_up

__all__ = [
    "backup_plan",
    "backups_in",
    "carry_out_backup",
    "change_backup_plan",
    "restore_drill",
    "start_backup",
    "start_due_backup",
]

_NAME = re.compile(r"rumbrel-\d{4}-\d{2}-\d{2}-\d{6}\.tar")
_DRILL_SECONDS = 600
_ABOVE_PACKAGE = Path(rumbrel.__file__).resolve().parents[1]
_COUNTED = ("collection_track", "batches_item", "playlists_playlist", "discs_disc")


def backup_plan() -> BackupPlan:
    return BackupPlan.objects.get_or_create(pk=1)[0]


def change_backup_plan(*, every_days: int, folder: str, keep: int, with_files: bool) -> BackupPlan:
    """Raises OutputError for a folder that cannot hold backups."""
    path = Path(folder)
    if every_days or folder:
        if not path.is_absolute() or "\0" in folder:
            raise OutputError("Name the folder for backups by its whole path.")
        if path.resolve().is_relative_to(settings.RUMBREL.data.resolve()):
            raise OutputError("A backup inside the data folder is lost with it. Choose a folder on another disk.")
        if not path.is_dir() or not os.access(path, os.W_OK | os.X_OK):
            raise OutputError(
                f"{folder[:300]} is not there, or cannot be written. Make it first, or change its permissions."
            )
    plan = backup_plan()
    plan.every_days, plan.folder, plan.keep, plan.with_files = every_days, folder, max(1, keep), with_files
    plan.save(update_fields=["every_days", "folder", "keep", "with_files"])
    return plan


def backups_in(folder: str) -> list[Path]:
    """Those that a schedule put there, the newest first; other files are not ours."""
    path = Path(folder)
    return (
        sorted((each for each in path.iterdir() if _NAME.fullmatch(each.name)), reverse=True) if path.is_dir() else []
    )


def start_backup() -> Job:
    return start_job(kind="backup", subject=1, title="Back up")


def start_due_backup() -> int:
    """Returns how many were started."""
    plan = BackupPlan.objects.filter(pk=1, every_days__gt=0).first()
    if plan is None or Job.objects.filter(kind="backup", state__in=Job.ACTIVE).exists():
        return 0
    now = timezone.now()
    if plan.taken_at and now - plan.taken_at < timedelta(days=plan.every_days):
        return 0
    # One that failed is tried again the next day, not the next minute.
    if Job.objects.filter(kind="backup", created_at__gt=now - timedelta(days=1)).exists():
        return 0
    start_backup()
    return 1


def carry_out_backup(desk: Desk, subject: int) -> str:
    """Take it, restore it for a trial, and remove the oldest beyond the number. Raises BackupRefused, OutputError."""
    plan = backup_plan()
    if not plan.folder:
        raise OutputError("No folder for backups is chosen. Choose one on the page of this installation.")
    path = Path(plan.folder) / f"rumbrel-{timezone.now():%Y-%m-%d-%H%M%S}.tar"
    desk.report(Progress(done=0, total=2, unit=Unit.FILES, step="backing up"))
    backup = back_up(path=path, with_files=plan.with_files)
    BackupPlan.objects.filter(pk=1).update(taken_at=timezone.now(), path=str(path))
    desk.report(Progress(done=1, total=2, unit=Unit.FILES, step="restoring it for a trial"))
    said = restore_drill(path)
    BackupPlan.objects.filter(pk=1).update(drilled_at=timezone.now(), drill_said=said)
    for old in backups_in(plan.folder)[plan.keep :]:
        old.unlink(missing_ok=True)
    return f"{path}: {counted(len(backup.digests), 'file')}, read again and compared. {said}"


def restore_drill(path: Path) -> str:
    """Restore a backup into a folder of its own, bring it up to date, and count what is in it. Returns what was found.

    Raises BackupRefused where it does not work.
    """
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".rumbrel-trial-") as folder:
        data = Path(folder) / "data"
        command = [sys.executable, "-m", "rumbrel", "restore", str(path)]
        environment = {**os.environ, "RUMBREL_DATA": str(data), "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base"}
        try:
            ended = subprocess.run(
                command, env=environment, cwd=_ABOVE_PACKAGE, capture_output=True, text=True, timeout=_DRILL_SECONDS
            )
        except subprocess.TimeoutExpired as error:
            raise BackupRefused(
                f"Restoring {path.name} for a trial took over {_DRILL_SECONDS // 60} minutes."
            ) from error
        if ended.returncode:
            last = (ended.stderr or ended.stdout).strip().splitlines()[-1:]
            raise BackupRefused(f"{path.name} could not be restored for a trial: {' '.join(last)[:300]}")
        with closing(sqlite3.connect(f"file:{data / 'rumbrel.sqlite3'}?mode=ro", uri=True)) as kept:
            whole = kept.execute("PRAGMA integrity_check").fetchone()[0]
            counts = [kept.execute(f"SELECT count(*) FROM {table}").fetchone()[0] for table in _COUNTED]  # noqa: S608
        if whole != "ok":
            raise BackupRefused(f"The database of {path.name} is damaged: {whole}. Take another backup.")
    tracks, results, lists, discs = counts
    return (
        f"Restored for a trial: {counted(tracks, 'track')}, {counted(results, 'line of batches', 'lines of batches')}, "
        f"{counted(lists, 'playlist')}, {counted(discs, 'disc')}."
    )
