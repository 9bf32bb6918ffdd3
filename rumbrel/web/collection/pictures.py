"""Where the pictures of the sound of tracks are kept."""

from pathlib import Path

from django.conf import settings

__all__ = ["picture_path"]


def picture_path(track_id: int) -> Path:
    return settings.RUMBREL.pictures / f"{track_id}.npz"
