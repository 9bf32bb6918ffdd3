"""Text chunks of AIFF: NAME, AUTH, (c) and ANNO, which plain readers know and ID3 readers pass over."""

import io
import struct
from pathlib import Path

from rumbrel.core.containers.chunks import list_chunks

from .mapping import FIELDS
from .model import TagSet
from .text import decoded_text

__all__ = ["read_aiff_text", "write_aiff_text"]

_LARGEST_TEXT_BYTES = 64 * 1024
_BY_CHUNK = {row.aiff.encode(): row.name for row in FIELDS if row.aiff}


def read_aiff_text(path: Path) -> dict[str, tuple[str, ...]]:
    """The fields of the text chunks; UTF-8 or, where it is none, Latin 1."""
    fields: dict[str, tuple[str, ...]] = {}
    with path.open("rb") as file:
        for name, at, length in list_chunks(file):
            if name not in _BY_CHUNK or not 0 < length <= _LARGEST_TEXT_BYTES:
                continue
            file.seek(at)
            raw = file.read(length).rstrip(b"\0")
            text = decoded_text(raw).strip()
            if text:
                fields[_BY_CHUNK[name]] = (*fields.get(_BY_CHUNK[name], ()), text)
    return fields


def write_aiff_text(path: Path, tags: TagSet) -> None:
    """Append the text chunks a file has none of; ones that are there already become waste."""
    extra = b""
    for row in FIELDS:
        values = tags.fields.get(row.name) if row.aiff else None
        if values:
            raw = "; ".join(values).replace("\0", " ").encode("utf-8", "replace")[:_LARGEST_TEXT_BYTES]
            extra += struct.pack(">4sI", row.aiff.encode(), len(raw)) + raw + b"\0" * (len(raw) % 2)
    with path.open("r+b") as file:
        for name, at, _ in list_chunks(file):
            if name in _BY_CHUNK:
                # Readers pass over chunks of the application's own.
                file.seek(at - 8)
                file.write(b"APPL")
        file.seek(0, io.SEEK_END)
        if file.tell() % 2:
            file.write(b"\0")
        file.write(extra)
        total = file.tell() - 8
        if total <= 0xFFFFFFFF:
            file.seek(4)
            file.write(struct.pack(">I", total))
