"""What a file states of the encoder that made its sound, and of its settings."""

import struct
from pathlib import Path

import mutagen

from rumbrel.core.formats.table import TagForm, container_row
from rumbrel.core.tags.openers import opener_for

from .mpeg_lengths import first_frame

__all__ = ["encoder_statement"]


def encoder_statement(path: Path, *, container: str, codec: str) -> str | None:
    """The statement, "" where the file makes none; None for codings that nobody states an encoder in, since any makes
    the same of a sound. Raises OSError."""
    if container == "mp3":
        with path.open("rb") as file:
            found = first_frame(file)
        info = found[2] if found else None
        return f"{info.version_text} {info.settings.hex()}" if info and info.version_text else ""
    form, opener = container_row(container).tags, opener_for(container, codec)
    if form is TagForm.RIFF or container == "vox":
        return None
    if opener is None:
        return ""
    try:
        tags = opener(path).tags
    except (mutagen.MutagenError, ValueError, struct.error):
        return ""
    if form is TagForm.VORBIS:
        return str(getattr(tags, "vendor", ""))
    key = {TagForm.MP4: "\xa9too", TagForm.ASF: "WM/EncodingSettings"}.get(form)
    return " ".join(str(value) for value in tags.get(key, ())) if key and tags else ""
