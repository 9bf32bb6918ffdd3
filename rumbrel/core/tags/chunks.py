"""Chunks of RIFF and IFF files, and the texts in them."""

import io
import struct
from typing import BinaryIO

__all__ = ["decoded_text", "list_chunks"]

_MOST_CHUNKS = 10_000
# By the file's mark: the order of its numbers, and the forms that hold sound.
_KINDS = {
    b"RIFF": ("<", (b"WAVE",)),
    b"RF64": ("<", (b"WAVE",)),
    b"FORM": (">", (b"AIFF", b"AIFC")),
}


def list_chunks(file: BinaryIO) -> list[tuple[bytes, int, int]]:
    """(name, offset of the content, length) of every chunk that lies inside the file; none for another kind of file.

    RF64 states the length of its sound in a ds64 chunk (EBU Tech 3306).
    """
    file.seek(0, io.SEEK_END)
    size = file.tell()
    file.seek(0)
    head = file.read(12)
    order, forms = _KINDS.get(head[:4], ("<", ()))
    if head[8:12] not in forms:
        return []
    found: list[tuple[bytes, int, int]] = []
    at, data_bytes = 12, 0
    while at + 8 <= size and len(found) < _MOST_CHUNKS:
        file.seek(at)
        name, length = struct.unpack(f"{order}4sI", file.read(8))
        if name == b"ds64" and length >= 16 and at + 24 <= size:
            data_bytes = struct.unpack("<8xQ", file.read(16))[0]
        if name == b"data" and length == 0xFFFFFFFF and data_bytes:
            length = data_bytes
        if at + 8 + length > size:
            break
        found.append((name, at + 8, length))
        at += 8 + length + length % 2
    return found


def decoded_text(raw: bytes) -> str:
    """UTF-8 or, where it is none, Latin 1."""
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")
