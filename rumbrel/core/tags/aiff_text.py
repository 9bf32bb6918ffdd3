"""Text chunks of AIFF: NAME, AUTH, (c) and ANNO, which plain readers know and ID3 readers pass over."""

import io
import struct
from pathlib import Path
from typing import BinaryIO

from .mapping import FIELDS
from .model import TagSet

__all__ = ["read_aiff_text", "write_aiff_text"]

_MOST_CHUNKS = 10_000
_LARGEST_TEXT_BYTES = 64 * 1024
_BY_CHUNK = {row.aiff.encode(): row.name for row in FIELDS if row.aiff}


def _chunks(file: BinaryIO) -> list[tuple[bytes, int, int]]:
    """(name, offset of the content, length) of every chunk that lies inside the file."""
    file.seek(0, io.SEEK_END)
    size = file.tell()
    file.seek(0)
    head = file.read(12)
    if head[:4] != b"FORM" or head[8:12] not in (b"AIFF", b"AIFC"):
        return []
    found: list[tuple[bytes, int, int]] = []
    at = 12
    while at + 8 <= size and len(found) < _MOST_CHUNKS:
        file.seek(at)
        name, length = struct.unpack(">4sI", file.read(8))
        if at + 8 + length > size:
            break
        found.append((name, at + 8, length))
        at += 8 + length + length % 2
    return found


def read_aiff_text(path: Path) -> dict[str, tuple[str, ...]]:
    """The fields of the text chunks; UTF-8 or, where it is none, Latin 1."""
    fields: dict[str, tuple[str, ...]] = {}
    with path.open("rb") as file:
        for name, at, length in _chunks(file):
            if name not in _BY_CHUNK or not 0 < length <= _LARGEST_TEXT_BYTES:
                continue
            file.seek(at)
            raw = file.read(length).rstrip(b"\0")
            try:
                text = raw.decode("utf-8").strip()
            except UnicodeDecodeError:
                text = raw.decode("latin-1").strip()
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
        for name, at, _ in _chunks(file):
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
