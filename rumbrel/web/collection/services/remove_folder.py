"""A source folder leaves the collection with its tracks; its files stay where they are."""

from django.db import transaction

from rumbrel.core.errors import RumbrelError
from rumbrel.core.progress import Progress, Unit
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import SourceFolder
from .recount import recount_folder
from .remove_missing import missing_ids, remove_missing, remove_tracks

__all__ = [
    "FolderBusy",
    "carry_out_removal",
    "carry_out_removal_of_missing",
    "folder_track_ids",
    "remove_folder",
    "rename_folder",
    "start_removal",
]

MOST_AT_ONCE = 1_000
"""So many tracks go while the page waits; more go as a job, so that nobody else waits for the database."""
_TRACKS_A_TURN = 200


class FolderBusy(RumbrelError):
    """A folder that is being scanned cannot go."""


def folder_track_ids(*, folder: SourceFolder) -> list[int]:
    return list(folder.tracks.values_list("pk", flat=True))


def remove_folder(*, folder: SourceFolder) -> int:
    """Forget a folder, its tracks, and their entries wherever they are held. Returns how many tracks went.

    Raises FolderBusy.
    """
    with transaction.atomic():
        _see_that_it_is_idle(folder)
        removed = remove_tracks(folder_track_ids(folder=folder))
        folder.delete()
    return removed


def _see_that_it_is_idle(folder: SourceFolder) -> None:
    busy = Job.objects.filter(
        subject=folder.pk, state__in=Job.ACTIVE, kind__in=("scan", "remove-folder", "remove-missing")
    )
    for job in busy:
        doing = "is being scanned. Stop the scan first." if job.kind == "scan" else "is being removed already."
        raise FolderBusy(f"{folder.name} {doing}")


def start_removal(*, folder: SourceFolder, missing: bool = False) -> Job | int:
    """Remove a folder, or its missing tracks alone: at once where they are few, and how many went is returned; else as a
    job. Raises FolderBusy."""
    ids = missing_ids(folder=folder) if missing else folder_track_ids(folder=folder)
    if len(ids) <= MOST_AT_ONCE:
        return remove_missing(folder=folder) if missing else remove_folder(folder=folder)
    _see_that_it_is_idle(folder)
    kind, what = ("remove-missing", "missing tracks of ") if missing else ("remove-folder", "")
    return start_job(kind=kind, subject=folder.pk, title=f"Remove {what}{folder.name}")


def carry_out_removal(desk: Desk, folder_id: int) -> str:
    """A few tracks at a time. A stop leaves the rest in the collection, whole."""
    return _removed(desk, SourceFolder.objects.get(pk=folder_id), missing=False)


def carry_out_removal_of_missing(desk: Desk, folder_id: int) -> str:
    return _removed(desk, SourceFolder.objects.get(pk=folder_id), missing=True)


def _removed(desk: Desk, folder: SourceFolder, *, missing: bool) -> str:
    ids = missing_ids(folder=folder) if missing else folder_track_ids(folder=folder)
    try:
        for start in range(0, len(ids), _TRACKS_A_TURN):
            done = start + len(ids[start : start + _TRACKS_A_TURN])
            with transaction.atomic():
                remove_tracks(ids[start:done])
            desk.report(
                Progress(done=done, total=len(ids), unit=Unit.TRACKS, step="removing", finished=done, items=len(ids))
            )
            desk.check()
    finally:
        if SourceFolder.objects.filter(pk=folder.pk).exists():
            recount_folder(folder=folder)
    if not missing:
        folder.delete()
    return f"{counted(len(ids), 'track')} of {folder.path} left the collection. The files were not touched."


def rename_folder(*, folder: SourceFolder, label: str) -> None:
    """What the folder is called here; "" gives it back its own name."""
    SourceFolder.objects.filter(pk=folder.pk).update(label=label)
