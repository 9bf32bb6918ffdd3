"""A picture of a file's tags as a screen shows it: small, made anew, whatever the file says it is."""

import io

from PIL import Image, UnidentifiedImageError

from rumbrel.core.errors import TagError

from .model import Cover
from .rules import LARGEST_COVER_BYTES, PICTURE_FORMATS

__all__ = ["cover_preview"]

_MOST_PIXELS = 30_000_000


def cover_preview(cover: Cover, *, pixels: int) -> bytes:
    """The cover as JPEG, its longer edge at most so many pixels. Raises TagError where it is no picture that can be
    read, or one that is too large."""
    if len(cover.data) > LARGEST_COVER_BYTES:
        raise TagError(f"This picture of {len(cover.data):,} bytes is too large to be shown.")
    try:
        with Image.open(io.BytesIO(cover.data), formats=PICTURE_FORMATS) as picture:
            # JPEG can be read at a part of its size; others take their whole size in memory.
            picture.draft("RGB", (pixels, pixels))
            if picture.width * picture.height > _MOST_PIXELS:
                raise TagError(f"This picture of {picture.width} by {picture.height} pixels is too large to be shown.")
            small = picture.convert("RGB")
            small.thumbnail((pixels, pixels))
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise TagError("This picture cannot be read. Put another one in.") from error
    data = io.BytesIO()
    small.save(data, "JPEG", quality=88)
    return data.getvalue()
