"""Pages of Ogg files (RFC 3533)."""

from typing import BinaryIO

__all__ = ["chain_links", "last_position", "second_packet", "sound_begins"]

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


_MOST_HEAD_PAGES = 4096


def sound_begins(file: BinaryIO, size_bytes: int) -> int:
    """Where the first page lies on which sound ends: those before it hold headers, comments and pictures (RFC 3533, 6:
    their position is 0, or -1 where no packet ends). 0 where there is none."""
    at = 0
    for _ in range(_MOST_HEAD_PAGES):
        file.seek(at)
        head = file.read(_HEAD_BYTES)
        if len(head) < _HEAD_BYTES or head[:4] != b"OggS" or at >= size_bytes:
            return 0
        if int.from_bytes(head[6:14], "little", signed=True) > 0:
            return at
        at += _HEAD_BYTES + head[26] + sum(file.read(head[26]))
    return 0


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


_BEGINS = 2
"""The flag of a stream's first page."""
_PROBES = 5
_PROBE_BYTES = 20_000
"""Pages have 4 to 8 kB by custom; where none begins in so many, the probe tells nothing."""


def chain_links(file: BinaryIO, size_bytes: int) -> list[tuple[int, int]]:
    """Byte ranges of streams that follow each other in one file (RFC 3533, 4: chaining); one range where there
    is one. Pages are walked only where a few of them do not look like one stream's."""
    if not _looks_chained(file, size_bytes):
        return [(0, size_bytes)]
    starts, at, in_head = [0], 0, True
    while at + _HEAD_BYTES <= size_bytes:
        file.seek(at)
        head = file.read(_HEAD_BYTES + 255)
        if head[:4] != b"OggS":
            break
        begins = bool(head[5] & _BEGINS)
        if begins and not in_head:
            starts.append(at)
        in_head = begins
        count = head[26]
        at += _HEAD_BYTES + count + sum(head[_HEAD_BYTES : _HEAD_BYTES + count])
    return list(zip(starts, [*starts[1:], size_bytes], strict=True))


def _looks_chained(file: BinaryIO, size_bytes: int) -> bool:
    """Whether pages across the file are of several streams, or do not count upwards."""
    found = []
    for number in range(_PROBES):
        last = number == _PROBES - 1
        file.seek(max(0, size_bytes - _TAIL_BYTES) if last else size_bytes * number // (_PROBES - 1))
        piece = file.read(_TAIL_BYTES if last else _PROBE_BYTES)
        at = piece.rfind(b"OggS") if last else piece.find(b"OggS")
        if at != -1 and len(piece) >= at + _HEAD_BYTES:
            found.append((piece[at + 14 : at + 18], int.from_bytes(piece[at + 18 : at + 22], "little")))
    counted = [number for _, number in found]
    return len({serial for serial, _ in found}) > 1 or counted != sorted(counted)
