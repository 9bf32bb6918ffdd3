"""Pages of Ogg files (RFC 3533)."""

from typing import BinaryIO

__all__ = ["last_position", "second_packet"]

_HEAD_BYTES = 27
_TAIL_BYTES = 70_000
"""A page is at most 65,307 bytes long."""


def last_position(file: BinaryIO, size_bytes: int, *, serial: bytes | None = None) -> int | None:
    """The position that the last page states when it is marked as the last of its stream, else None."""
    file.seek(max(0, size_bytes - _TAIL_BYTES))
    tail = file.read()
    at = tail.rfind(b"OggS")
    while at != -1:
        page = tail[at : at + _HEAD_BYTES]
        position = int.from_bytes(page[6:14], "little", signed=True)
        if len(page) == _HEAD_BYTES and position >= 0:
            return position if page[5] & 4 and serial in (None, page[14:18]) else None
        at = tail.rfind(b"OggS", 0, at)
    return None


def second_packet(pages: bytes) -> bytes | None:
    """The second packet of a file's only stream, where it ends within its first pages; else None."""
    packet, at, serial = b"", 0, pages[14:18]
    while at + _HEAD_BYTES <= len(pages) and pages[at : at + 4] == b"OggS" and pages[at + 14 : at + 18] == serial:
        count = pages[at + 26]
        lacing, body = pages[at + 27 : at + 27 + count], at + 27 + count
        if at:
            end = next((number for number, value in enumerate(lacing) if value < 255), None)
            taken = sum(lacing if end is None else lacing[: end + 1])
            if body + taken > len(pages):
                return None
            packet += pages[body : body + taken]
            if end is not None:
                return packet
        elif count != 1 or lacing[0] == 255:
            # The first packet has the first page to itself.
            return None
        at = body + sum(lacing)
    return None
