"""What becomes of discs when their playlist is deleted."""

import shutil
from collections.abc import Callable, Sequence
from pathlib import Path

from django.conf import settings

from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.words import counted

from ..models import Disc

__all__ = ["discs_refuse", "discs_said", "settle_discs"]


def discs_said(playlist_ids: Sequence[int]) -> str:
    """How many discs go with the lists, in words; "" for none."""
    discs = Disc.objects.filter(playlist__in=playlist_ids)
    written = discs.exclude(image_path="")
    there, images = discs.count(), written.count()
    if not there:
        return ""
    text = f"{counted(there, 'disc')} laid out from it {'goes' if there == 1 else 'go'} with it"
    return f"{text}, with {counted(images, 'written image')}." if images else f"{text}."


def discs_refuse(playlist_ids: Sequence[int]) -> str:
    """Why the lists may not go now: a write needs its list to the end."""
    busy = Disc.objects.filter(playlist__in=playlist_ids, job__state__in=Job.ACTIVE).first()
    return f"Disc {busy.pk} of this list is being written. Stop the write or wait for its end." if busy else ""


def settle_discs(playlist_ids: Sequence[int]) -> Callable[[], None]:
    """The images go with their discs."""
    folders = [
        settings.RUMBREL.discs / str(pk)
        for pk in Disc.objects.filter(playlist__in=playlist_ids).values_list("pk", flat=True)
    ]

    def settle() -> None:
        for folder in folders:
            _remove(folder)

    return settle


def _remove(folder: Path) -> None:
    if folder.is_dir() and not folder.is_symlink():
        shutil.rmtree(folder)
