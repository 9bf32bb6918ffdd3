"""The segment of Matroska and WebM files (RFC 8794, 4 and 5; RFC 9559, 5)."""

from typing import BinaryIO

__all__ = ["segment_end"]

_HEADER, _SEGMENT = b"\x1a\x45\xdf\xa3", b"\x18\x53\x80\x67"


def segment_end(file: BinaryIO) -> int | None:
    """Where the segment ends by its own size; None for one of unknown size."""
    at = 0
    for wanted in (_HEADER, _SEGMENT):
        file.seek(at)
        head = file.read(12)
        if head[:4] != wanted or len(head) < 12 or not head[4]:
            return None
        width = 9 - head[4].bit_length()
        length = int.from_bytes(head[4 : 4 + width], "big") & (1 << 7 * width) - 1
        if length == (1 << 7 * width) - 1:
            return None
        at += 4 + width + length
    return at
