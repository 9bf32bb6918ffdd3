"""The pictures of the sound of tracks: where they are kept, and how a page is given one."""

import base64
from pathlib import Path
from typing import Any

from django.conf import settings

from rumbrel.core.sound.fine_picture import FLOOR_DB, FinePicture, PictureView

__all__ = ["picture_path", "spectrum_record"]


def picture_path(track_id: int) -> Path:
    return settings.RUMBREL.pictures / f"{track_id}.npz"


def spectrum_record(kept: FinePicture, view: PictureView) -> dict[str, Any]:
    """A spectrum as soundruler.js draws it: its bytes in base64, rows of bands, dB above floor; edges_hz is where each
    band begins, and where the last one ends."""
    return {
        "spectrum": base64.b64encode(view.spectrum.tobytes()).decode(),
        "bands": view.spectrum.shape[1],
        "floor": FLOOR_DB,
        "top_hz": kept.sample_rate / 2,
        "edges_hz": [round(float(edge), 1) for edge in kept.edges_hz],
    }
