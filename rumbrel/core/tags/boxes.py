"""Boxes of MP4 files (ISO/IEC 14496-12)."""

import struct
from typing import BinaryIO

__all__ = ["box_content", "box_inside", "list_boxes"]


_MOST_BOXES = 10_000
"""Side by side; a file of nothing but empty boxes would hold a reader for hours."""


def list_boxes(file: BinaryIO, start: int, end: int) -> dict[bytes, list[tuple[int, int]]] | None:
    """Offsets and ends of the boxes between two places (ISO/IEC 14496-12); None when they do not add up."""
    found: dict[bytes, list[tuple[int, int]]] = {}
    at = start
    for _ in range(_MOST_BOXES):
        if at + 8 > end:
            break
        file.seek(at)
        head = file.read(16)
        length, name = struct.unpack_from(">I4s", head)
        skip = 8
        if length == 1 and len(head) == 16:
            length, skip = struct.unpack_from(">Q", head, 8)[0], 16
        if length < skip or at + length > end:
            return None
        found.setdefault(name, []).append((at + skip, at + length))
        at += length
    return found if at == end else None


def box_inside(file: BinaryIO, box: tuple[int, int], *names: bytes) -> tuple[int, int] | None:
    """The only box of a path of names, or None."""
    for name in names:
        boxes = list_boxes(file, *box)
        if boxes is None or len(boxes.get(name, ())) != 1:
            return None
        box = boxes[name][0]
    return box


_BEGINNING_BYTES = 4096


def box_content(file: BinaryIO, box: tuple[int, int], *names: bytes) -> bytes:
    """The beginning of the only box of a path of names, nothing where there is none."""
    found = box_inside(file, box, *names)
    if found is None:
        return b""
    file.seek(found[0])
    return file.read(min(_BEGINNING_BYTES, found[1] - found[0]))
