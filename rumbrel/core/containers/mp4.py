"""Boxes of MP4 files (ISO/IEC 14496-12)."""

import io
from collections.abc import Iterator
from typing import BinaryIO

__all__ = ["box_content", "box_inside", "list_boxes", "top_boxes", "walk_boxes"]

Stretch = tuple[int, int]
"""Where the content of a box begins and where it ends, in bytes of the file."""

_MOST_BOXES = 10_000
"""Side by side; a file of nothing but empty boxes would hold a reader for hours."""


def walk_boxes(file: BinaryIO, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """(name, start of the content, stated end) of the boxes side by side (4.2), also of one that reaches beyond.

    A stated end of -1 is that of a last box, which takes the rest of the file. Ends at what is no box.
    """
    at = start
    for _ in range(_MOST_BOXES):
        if at + 8 > end:
            return
        file.seek(at)
        head = file.read(16)
        length, skip = int.from_bytes(head[:4], "big"), 8
        if length == 1 and len(head) == 16:
            length, skip = int.from_bytes(head[8:16], "big"), 16
        if length == 0:
            yield head[4:8], at + skip, -1
            return
        if length < skip:
            return
        yield head[4:8], at + skip, at + length
        at += length


def list_boxes(file: BinaryIO, start: int, end: int) -> dict[bytes, list[Stretch]] | None:
    """The contents of the boxes between two offsets, by name; None when they do not add up."""
    found: dict[bytes, list[Stretch]] = {}
    reached = start
    for name, content, stop in walk_boxes(file, start, end):
        if not content <= stop <= end:
            return None
        found.setdefault(name, []).append((content, stop))
        reached = stop
    return found if reached == end else None


def box_inside(file: BinaryIO, box: Stretch, *names: bytes) -> Stretch | None:
    """The only box of a path of names, or None."""
    for name in names:
        boxes = list_boxes(file, *box)
        if boxes is None or len(boxes.get(name, ())) != 1:
            return None
        box = boxes[name][0]
    return box


_BEGINNING_BYTES = 4096


def box_content(file: BinaryIO, box: Stretch, *names: bytes) -> bytes:
    """The beginning of the only box of a path of names, nothing where there is none."""
    found = box_inside(file, box, *names)
    if found is None:
        return b""
    file.seek(found[0])
    return file.read(min(_BEGINNING_BYTES, found[1] - found[0]))


def top_boxes(file: BinaryIO) -> list[tuple[bytes, int, int]]:
    """(name, start of the content, end) of the boxes at the top, the last one's end being at least the file's."""
    size_bytes = file.seek(0, io.SEEK_END)
    return [(name, at, size_bytes if end < 0 else end) for name, at, end in walk_boxes(file, 0, size_bytes)]
