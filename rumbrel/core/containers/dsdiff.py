"""Frames of one bit sound packed as DST in DSDIFF files (ISO/IEC 14496-3, subpart 10, and DSDIFF 1.5, from memory)."""

import struct
from collections.abc import Iterator
from pathlib import Path

__all__ = ["unpacked_frames"]

_FIRST_CHUNK_AT = 16
_HOLDS_CHUNKS = b"DST "
_MOST_CHUNKS = 75 * 3600 * 24


def unpacked_frames(path: Path) -> int:
    """How many frames hold their bits as they are, since packing would have made them larger: their first bit is 0."""
    return sum(1 for first in _frames(path) if not first & 0x80)


def _frames(path: Path) -> Iterator[int]:
    """The first byte of each frame."""
    with path.open("rb") as file:
        at = _FIRST_CHUNK_AT
        for _ in range(_MOST_CHUNKS):
            file.seek(at)
            head = file.read(13)
            if len(head) < 13:
                return
            name, length = struct.unpack_from(">4sQ", head)
            if name == b"DSTF":
                yield head[12]
            at += 12 if name == _HOLDS_CHUNKS else 12 + length + length % 2
