"""Pictures of tags in a file of their own, so that an edit can put them in, or put them back."""

import base64
import json
from collections.abc import Sequence
from pathlib import Path

from rumbrel.core.errors import TagError
from rumbrel.core.files import write_whole

from .model import Cover

__all__ = ["keep_covers", "kept_covers"]


def keep_covers(path: Path, covers: Sequence[Cover]) -> None:
    """Write them, whole or not at all. Raises OutputError."""
    records = [
        {
            "media_type": cover.media_type, "kind": cover.kind, "description": cover.description,
            "data": base64.b64encode(cover.data).decode(),
        }
        for cover in covers
    ]  # fmt: skip
    write_whole(path, json.dumps(records))


def kept_covers(path: Path) -> tuple[Cover, ...]:
    """What was written. Raises TagError where that cannot be read."""
    try:
        records = json.loads(path.read_text())
        return tuple(Cover(**{**record, "data": base64.b64decode(record["data"])}) for record in records)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise TagError("The pictures that were kept for this cannot be read, so nothing was written.") from error
