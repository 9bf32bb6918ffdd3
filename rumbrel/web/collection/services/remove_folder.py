"""A source folder leaves the collection with its tracks; its files stay where they are."""

from django.db import transaction

from rumbrel.core.errors import RumbrelError
from rumbrel.web.jobs.models import Job

from ..models import SourceFolder
from .remove_missing import remove_tracks

__all__ = ["FolderBusy", "folder_track_ids", "remove_folder", "rename_folder"]


class FolderBusy(RumbrelError):
    """A folder that is being scanned cannot go."""


def folder_track_ids(*, folder: SourceFolder) -> list[int]:
    return list(folder.tracks.values_list("pk", flat=True))


def remove_folder(*, folder: SourceFolder) -> int:
    """Forget a folder, its tracks, and their entries wherever they are held. Returns how many tracks went.

    Raises FolderBusy.
    """
    with transaction.atomic():
        if Job.objects.filter(kind="scan", subject=folder.pk, state__in=Job.ACTIVE).exists():
            raise FolderBusy(f"{folder.name} is being scanned. Stop the scan first.")
        removed = remove_tracks(folder_track_ids(folder=folder))
        folder.delete()
    return removed


def rename_folder(*, folder: SourceFolder, label: str) -> None:
    """What the folder is called here; "" gives it back its own name."""
    SourceFolder.objects.filter(pk=folder.pk).update(label=label)
