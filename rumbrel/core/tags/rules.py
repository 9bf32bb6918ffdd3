"""What a target wants done to tags and covers on the way."""

import io
from dataclasses import dataclass, replace

from PIL import Image, UnidentifiedImageError

from rumbrel.core.errors import TagError

from .model import Cover, TagSet

__all__ = ["LARGEST_COVER_BYTES", "PICTURE_FORMATS", "TagRules", "apply_rules", "cover_of"]

LARGEST_COVER_BYTES = 16 * 1024 * 1024 - 4096
"""A FLAC picture block states its length in 24 bits; nobody shows a larger picture."""
PICTURE_FORMATS = ("JPEG", "PNG", "GIF", "WEBP", "BMP", "TIFF")
_MOST_PIXELS = 100_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class TagRules:
    """id3_version is 3 or 4. covers is "all", "front" or "none". Covers above the limits are made
    smaller, as JPEG; None sets no limit. keep names the only fields carried; empty carries all."""

    id3_version: int = 4
    covers: str = "all"
    cover_pixels: int | None = None
    cover_bytes: int | None = None
    keep: tuple[str, ...] = ()


def apply_rules(tags: TagSet, rules: TagRules) -> tuple[TagSet, tuple[str, ...]]:
    """(tags as the target wants them, sentences about what could not be carried against its wish)."""
    fields = {name: values for name, values in tags.fields.items() if not rules.keep or name in rules.keep}
    wanted = tags.covers
    if rules.covers == "none":
        wanted = ()
    elif rules.covers == "front":
        wanted = tuple(sorted(wanted, key=lambda cover: cover.kind != 3))[:1]
    covers: list[Cover] = []
    notes: list[str] = []
    for cover in wanted:
        fitted = _fitted(cover, rules)
        if fitted is None:
            notes.append(f"a cover of {len(cover.data):,} bytes is not a picture that can be read, or too large")
        else:
            covers.append(fitted)
    return replace(tags, fields=fields, covers=tuple(covers)), tuple(notes)


def _fitted(cover: Cover, rules: TagRules) -> Cover | None:
    """The cover within the limits, or None. The picture's own header is trusted, not what the tag says."""
    untouched = rules.cover_pixels is None and rules.cover_bytes is None
    if untouched:
        return cover if len(cover.data) <= LARGEST_COVER_BYTES else None
    try:
        with Image.open(io.BytesIO(cover.data), formats=PICTURE_FORMATS) as picture:
            if picture.width * picture.height > _MOST_PIXELS:
                return None
            edge = rules.cover_pixels or max(picture.size)
            limit = rules.cover_bytes or LARGEST_COVER_BYTES
            if max(picture.size) <= edge and len(cover.data) <= limit and picture.format == "JPEG":
                return cover
            flat = picture.convert("RGB")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        # Pillow raises SyntaxError for some broken PNG files.
        return None
    while edge >= 16:
        small = flat.copy()
        small.thumbnail((edge, edge))
        data = io.BytesIO()
        small.save(data, "JPEG", quality=88)
        if data.tell() <= limit:
            return replace(cover, media_type="image/jpeg", data=data.getvalue())
        edge = edge * 3 // 4
    return None


_MEDIA_TYPES = {"JPEG": "image/jpeg", "PNG": "image/png"}


def cover_of(data: bytes) -> Cover:
    """A front cover of a picture file's content; what it says of itself is not believed. Raises TagError."""
    if len(data) > LARGEST_COVER_BYTES:
        raise TagError("The picture is too large: at most 16 MB. Make it smaller first.")
    try:
        with Image.open(io.BytesIO(data), formats=tuple(_MEDIA_TYPES)) as picture:
            media_type = _MEDIA_TYPES[picture.format or ""]
            picture.verify()
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, KeyError, Image.DecompressionBombError) as error:
        raise TagError("That is not a readable JPEG or PNG picture. Choose another.") from error
    return Cover(media_type=media_type, data=data, size_bytes=len(data))
