"""Where the sound of a file should end by the file's own statement: what is cut short ends before that."""

import io
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from rumbrel.core.containers import asf
from rumbrel.core.containers.chunks import UNKNOWN_LENGTHS, W64_DATA, caf_chunks, riff_chunks, riff_end, w64_chunks
from rumbrel.core.containers.matroska import segment_end
from rumbrel.core.containers.mp4 import top_boxes

__all__ = ["lacks_index", "stated_end", "stated_sound"]


def stated_sound(file: BinaryIO, size_bytes: int) -> tuple[int, int] | None:
    """Offset and stated length in bytes of the sound of an uncompressed file, None where neither is stated."""
    file.seek(0)
    head = file.read(12)
    found: tuple[int, int] | None = None
    if head[:4] in (b"RIFF", b"FORM"):
        # The sound of AIFF begins behind an offset and the size of its blocks.
        order, sound, before = ("<", b"data", 0) if head[:4] == b"RIFF" else (">", b"SSND", 8)
        chunks = (chunk for chunk in riff_chunks(file, size_bytes, order) if chunk[0] == sound)
        found = next(((at + before, length - before * (length > before)) for _, at, length in chunks), None)
    elif head[:4] == b".snd":
        # AU: magic, offset of the sound, its length, all in 32 bits.
        found = int.from_bytes(head[4:8], "big"), int.from_bytes(head[8:12], "big")
    elif head[:4] == b"caff":
        found = next(((at, n) for name, at, n in caf_chunks(file, size_bytes) if name == b"data"), None)
    elif head[:4] == b"riff":
        found = next(((at, n) for name, at, n in w64_chunks(file, size_bytes) if name == W64_DATA), None)
    return found if found and found[1] not in UNKNOWN_LENGTHS else None


def lacks_index(path: Path) -> bool:
    """Whether this is an MP4 without the box that says where its sound is, or a CAF without its packets' table."""
    try:
        with path.open("rb") as file:
            head = file.read(12)
            if head[:4] == b"caff":
                size_bytes = file.seek(0, io.SEEK_END)
                sound = stated_sound(file, size_bytes)
                return sound is not None and sum(sound) > size_bytes
            return head[4:8] == b"ftyp" and all(name != b"moov" for name, _, _ in top_boxes(file))
    except OSError:
        return False


def _plain_end(file: BinaryIO) -> int | None:
    sound = stated_sound(file, file.seek(0, io.SEEK_END))
    return sum(sound) if sound else None


_ENDS: dict[str, Callable[[BinaryIO], int | None]] = {
    "matroska": segment_end,
    "avi": riff_end,
    "asf": asf.stated_size,
    "caf": _plain_end,
}


def stated_end(file: BinaryIO, container: str) -> int | None:
    """Where a file of a container should end by its own statement, None where it states nothing."""
    reader = _ENDS.get(container)
    return reader(file) if reader else None
