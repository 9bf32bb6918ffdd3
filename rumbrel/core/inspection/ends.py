"""Where the sound of a file should end by the file's own statement: what is cut short ends before that."""

import io
import struct
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

__all__ = ["boxes_end", "lacks_index", "ogg_last_position", "riff_chunks", "stated_end", "stated_sound"]

_MOST_CHUNKS = 10_000
"""A file of nothing but empty chunks would hold a reader for hours."""


def riff_chunks(file: BinaryIO, size: int, order: str) -> Iterator[tuple[bytes, int, int]]:
    """Yield (name, offset of the content, stated length) of each chunk of a RIFF or IFF file."""
    at = 12
    for _ in range(_MOST_CHUNKS):
        if at + 8 > size:
            return
        file.seek(at)
        name, length = struct.unpack(f"{order}4sI", file.read(8))
        yield name, at + 8, length
        at += 8 + length + length % 2


_UNKNOWN_LENGTHS = (0, 0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF)
_W64_DATA = b"data\xf3\xac\xd3\x11\x8c\xd1\x00\xc0\x4f\x8e\xdb\x8a"


def stated_sound(file: BinaryIO, size: int) -> tuple[int, int] | None:
    """Offset and stated length in bytes of the sound of an uncompressed file, None where neither is stated."""
    file.seek(0)
    head = file.read(40)
    found: tuple[int, int] | None = None
    if head[:4] in (b"RIFF", b"FORM"):
        # The sound of AIFF begins behind an offset and the size of its blocks.
        order, sound, before = ("<", b"data", 0) if head[:4] == b"RIFF" else (">", b"SSND", 8)
        chunks = (chunk for chunk in riff_chunks(file, size, order) if chunk[0] == sound)
        found = next(((at + before, length - before * (length > before)) for _, at, length in chunks), None)
    elif head[:4] == b".snd":
        # AU: magic, offset of the sound, its length, all in 32 bits.
        found = int.from_bytes(head[4:8], "big"), int.from_bytes(head[8:12], "big")
    elif head[:4] == b"caff":
        found = next(_long_chunks(file, 8, size, ">4sQ", b"data", 0), None)
    elif head[:4] == b"riff":
        # W64 counts the 24 bytes of a chunk's head, and fills up to multiples of eight.
        found = next(_long_chunks(file, 40, size, "<16sQ", _W64_DATA, 24), None)
    return found if found and found[1] not in _UNKNOWN_LENGTHS else None


def _long_chunks(
    file: BinaryIO, start: int, size: int, form: str, wanted: bytes, counted: int
) -> Iterator[tuple[int, int]]:
    """Offset and length of the chunks of a name whose lengths have 64 bits and count so much of their heads."""
    at, head_bytes = start, struct.calcsize(form)
    for _ in range(_MOST_CHUNKS):
        if at + head_bytes > size:
            return
        file.seek(at)
        head = file.read(head_bytes)
        name, length = struct.unpack(form, head)
        if name == wanted:
            yield at + head_bytes, length - counted if length not in _UNKNOWN_LENGTHS else length
        at += max(length - counted, 0) + head_bytes
        at += -at % 8 if counted else 0


def lacks_index(path: Path) -> bool:
    """Whether this is an MP4 without the box that says where its sound is, or a CAF without its packets' table."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(12)
            if head[:4] == b"caff":
                sound = stated_sound(file, size)
                return sound is not None and sum(sound) > size
            return head[4:8] == b"ftyp" and all(name != b"moov" for name, _ in _top_boxes(file, size))
    except OSError:
        return False


def _top_boxes(file: BinaryIO, size: int) -> Iterator[tuple[bytes, int]]:
    """Name and stated end of each box at the top, as far as they go (ISO/IEC 14496-12, 4.2)."""
    at = 0
    for _ in range(_MOST_CHUNKS):
        if at + 8 > size:
            return
        file.seek(at)
        head = file.read(16)
        length = int.from_bytes(head[:4], "big")
        length = int.from_bytes(head[8:16], "big") if length == 1 else length
        # A length of 0 is that of a last box which takes the rest of the file.
        at = size if length == 0 else at + length
        if 0 < length < 8:
            return
        yield head[4:8], at


def boxes_end(path: Path) -> int:
    """Where the last box at the top of an MP4 ends by its own statement."""
    with path.open("rb") as file:
        return max((end for _, end in _top_boxes(file, path.stat().st_size)), default=0)


def ogg_last_position(file: BinaryIO, size_bytes: int, *, serial: bytes | None = None) -> int | None:
    """The position that the last page states when it is marked as the last of its stream, else None."""
    file.seek(max(0, size_bytes - _OGG_TAIL_BYTES))
    tail = file.read()
    at = tail.rfind(b"OggS")
    while at != -1:
        page = tail[at : at + 27]
        position = int.from_bytes(page[6:14], "little", signed=True)
        if len(page) == 27 and position >= 0:
            return position if page[5] & 4 and serial in (None, page[14:18]) else None
        at = tail.rfind(b"OggS", 0, at)
    return None


_OGG_TAIL_BYTES = 70_000
"""A page is at most 65,307 bytes long (RFC 3533)."""


def _matroska_end(file: BinaryIO) -> int | None:
    """Where the segment ends by its own size (RFC 8794, 4 and 5; RFC 9559, 5); None for one of unknown size."""
    at = 0
    for wanted in (b"\x1a\x45\xdf\xa3", b"\x18\x53\x80\x67"):
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


def _avi_end(file: BinaryIO) -> int | None:
    head = file.read(8)
    return int.from_bytes(head[4:8], "little") + 8 if head[:4] == b"RIFF" else None


_ASF_FILE_PROPERTIES = bytes.fromhex("a1dcab8c47a9cf118ee400c00c205365")


def _asf_end(file: BinaryIO) -> int | None:
    """The file size in the file properties object, behind its name, size and a name of the file (from memory)."""
    head = file.read(4096)
    at = head.find(_ASF_FILE_PROPERTIES)
    return int.from_bytes(head[at + 40 : at + 48], "little") or None if at != -1 else None


def _plain_end(file: BinaryIO) -> int | None:
    sound = stated_sound(file, file.seek(0, io.SEEK_END))
    return sum(sound) if sound else None


_ENDS: dict[str, Callable[[BinaryIO], int | None]] = {
    "matroska": _matroska_end,
    "avi": _avi_end,
    "asf": _asf_end,
    "caf": _plain_end,
}


def stated_end(file: BinaryIO, container: str) -> int | None:
    """Where a file of a container should end by its own statement, None where it states nothing."""
    reader = _ENDS.get(container)
    return reader(file) if reader else None
