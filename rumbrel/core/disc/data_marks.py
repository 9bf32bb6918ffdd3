"""How data is told from sound: read as music it is noise at full level."""

from pathlib import Path

from rumbrel.core.errors import DiscError

from .red_book import BYTES_PER_SECTOR

__all__ = ["refuse_data"]

_SYNC = b"\0" + b"\xff" * 10 + b"\0"
_ISO_MARK_AT, _ISO_MARK = 32_769, b"CD001"
"""Raw sectors begin with a sync pattern, and the image of a data disc has its mark in its seventeenth block (ECMA-130
and ECMA-119, from memory)."""


def refuse_data(image: Path, start_sector: int) -> None:
    """Look at a bare image where a track of sound is said to begin. Raises DiscError where data lies there."""
    try:
        with image.open("rb") as file:
            file.seek(start_sector * BYTES_PER_SECTOR)
            head = file.read(len(_SYNC))
            file.seek(_ISO_MARK_AT)
            mark = file.read(len(_ISO_MARK))
    except OSError as error:
        raise DiscError(f"{image.name} cannot be read: {error.strerror}.") from error
    if head == _SYNC:
        raise DiscError(
            f"{image.name} holds raw sectors of data where the cue sheet says sound. Take that track out of the sheet."
        )
    if mark == _ISO_MARK and start_sector == 0:
        raise DiscError(f"{image.name} is the image of a data disc, not of sound. Write it as it is.")
