"""Pictures that an edit puts in, and those that were there before, on the disk."""

import base64
import json
from collections.abc import Sequence
from pathlib import Path

from django.conf import settings

from rumbrel.core.files import write_whole
from rumbrel.core.tags import Cover

__all__ = ["forget_pictures", "keep_pictures", "kept_pictures", "new_picture_path", "old_pictures_path"]


def new_picture_path(edit_id: int) -> Path:
    return settings.RUMBREL.undo / f"edit-{edit_id}.json"


def old_pictures_path(file_id: int) -> Path:
    return settings.RUMBREL.undo / f"file-{file_id}.json"


def keep_pictures(path: Path, covers: Sequence[Cover]) -> None:
    """Raises OutputError."""
    records = [
        {
            "media_type": cover.media_type, "kind": cover.kind, "description": cover.description,
            "data": base64.b64encode(cover.data).decode(),
        }
        for cover in covers
    ]  # fmt: skip
    write_whole(path, json.dumps(records))


def kept_pictures(path: Path) -> tuple[Cover, ...]:
    """None where they were not kept. Raises ValueError for a file that is none of ours."""
    if not path.exists():
        return ()
    return tuple(
        Cover(
            media_type=record["media_type"], kind=record["kind"], description=record["description"],
            data=base64.b64decode(record["data"]),
        )
        for record in json.loads(path.read_text())
    )  # fmt: skip


def forget_pictures(path: Path) -> None:
    path.unlink(missing_ok=True)
