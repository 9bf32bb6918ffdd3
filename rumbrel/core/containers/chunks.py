"""Chunks of RIFF, RF64 and IFF files, and of CAF and W64, whose lengths have 64 bits."""

import io
import shutil
import struct
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import BinaryIO

from rumbrel.core.errors import TagError

__all__ = [
    "UNKNOWN_LENGTHS",
    "W64_DATA",
    "W64_FORMAT",
    "add_chunks",
    "append_riff",
    "caf_chunks",
    "list_chunks",
    "riff_chunks",
    "riff_end",
    "w64_chunks",
    "w64_name",
]

Chunk = tuple[bytes, int, int]
"""Name, offset of the content, and stated length in bytes."""

_MOST_CHUNKS = 10_000
"""A file of nothing but empty chunks would hold a reader for hours."""
_W64_NAME_END = b"\xf3\xac\xd3\x11\x8c\xd1\x00\xc0\x4f\x8e\xdb\x8a"


def w64_name(name: bytes) -> bytes:
    """Chunks of W64 have names of 16 bytes, which begin with the four of RIFF."""
    return name + _W64_NAME_END


W64_FORMAT, W64_DATA = w64_name(b"fmt "), w64_name(b"data")
UNKNOWN_LENGTHS = (0, 0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF)
"""What writers state that never came back to fill the length in."""


def riff_chunks(file: BinaryIO, size_bytes: int, order: str) -> Iterator[Chunk]:
    """The chunks of a RIFF ("<") or IFF (">") file as it states them, also one that reaches beyond its end.

    RF64 states the length of its sound in a ds64 chunk (EBU Tech 3306).
    """
    at, sound_bytes = 12, 0
    for _ in range(_MOST_CHUNKS):
        if at + 8 > size_bytes:
            return
        file.seek(at)
        name, length = struct.unpack(f"{order}4sI", file.read(8))
        if name == b"ds64" and length >= 16 and at + 24 <= size_bytes:
            sound_bytes = struct.unpack("<8xQ", file.read(16))[0]
        elif name == b"data" and length == 0xFFFFFFFF and sound_bytes:
            length = sound_bytes
        yield name, at + 8, length
        at += 8 + length + length % 2


# By the file's mark: the order of its numbers, and the forms that hold sound.
_KINDS = {
    b"RIFF": ("<", (b"WAVE",)),
    b"RF64": ("<", (b"WAVE",)),
    b"FORM": (">", (b"AIFF", b"AIFC")),
}


def list_chunks(file: BinaryIO) -> list[Chunk]:
    """Every chunk that lies inside a file of sound, up to the first that does not; none for another kind of file."""
    size_bytes = file.seek(0, io.SEEK_END)
    file.seek(0)
    head = file.read(12)
    order, forms = _KINDS.get(head[:4], ("<", ()))
    found: list[Chunk] = []
    if head[8:12] in forms:
        for chunk in riff_chunks(file, size_bytes, order):
            if chunk[1] + chunk[2] > size_bytes:
                break
            found.append(chunk)
    return found


def riff_end(file: BinaryIO) -> int | None:
    """Where a RIFF file ends by its own statement."""
    file.seek(0)
    head = file.read(8)
    return int.from_bytes(head[4:8], "little") + 8 if head[:4] == b"RIFF" else None


def caf_chunks(file: BinaryIO, size_bytes: int) -> Iterator[Chunk]:
    """The chunks of a CAF file, which begin behind its mark and version."""
    return _long_chunks(file, 8, size_bytes, ">4sQ", counted=0)


def w64_chunks(file: BinaryIO, size_bytes: int) -> Iterator[Chunk]:
    """The chunks of a W64 file, whose lengths count the 24 bytes of a chunk's head and are filled up to eights."""
    return _long_chunks(file, 40, size_bytes, "<16sQ", counted=24)


def _long_chunks(file: BinaryIO, start: int, size_bytes: int, form: str, *, counted: int) -> Iterator[Chunk]:
    """Chunks whose lengths have 64 bits and count so much of their heads."""
    at, head_bytes = start, struct.calcsize(form)
    for _ in range(_MOST_CHUNKS):
        if at + head_bytes > size_bytes:
            return
        file.seek(at)
        name, length = struct.unpack(form, file.read(head_bytes))
        yield name, at + head_bytes, length - counted if length not in UNKNOWN_LENGTHS else length
        at += max(length - counted, 0) + head_bytes
        at += -at % 8 if counted else 0


def append_riff(file: BinaryIO, extra: bytes) -> None:
    """Put whole chunks behind the last of an open RIFF or RF64 file, and state its new length.

    Raises TagError when it would pass what its sizes can state.
    """
    file.seek(0, io.SEEK_END)
    if file.tell() % 2:
        file.write(b"\0")
    file.write(extra)
    total = file.tell() - 8
    file.seek(0)
    if file.read(4) == b"RF64":
        file.seek(20)
        file.write(struct.pack("<Q", total))
    elif total > 0xFFFFFFFF:
        raise TagError("The tags could not be written: the file would pass 4 GiB.")
    else:
        file.write(struct.pack("<I", total))


def add_chunks(path: Path, chunks: Mapping[bytes, bytes]) -> None:
    """Put chunks of such names and contents into a RIFF, RF64 or W64 file: behind the last, but before the sound of W64,
    since readers of that take what follows for more sound. Raises TagError, OSError."""
    with path.open("r+b") as file:
        if file.read(4) != b"riff":
            bodies = (
                (struct.pack("<4sI", name, len(body)) + body + b"\0" * (len(body) % 2)) for name, body in chunks.items()
            )
            append_riff(file, b"".join(bodies))
            return
        whole = b"".join(_w64_chunk(name, body) for name, body in chunks.items())
        size_bytes = file.seek(0, io.SEEK_END)
        at = next((at for name, at, _ in w64_chunks(file, size_bytes) if name == W64_DATA), 0) - _W64_HEAD_BYTES
        if at < 0:
            raise TagError("The tags could not be written: there is no sound in the file.")
        with tempfile.TemporaryFile(dir=path.parent) as behind:
            file.seek(at)
            shutil.copyfileobj(file, behind, _COPY_BYTES)
            file.seek(at)
            file.write(whole)
            behind.seek(0)
            shutil.copyfileobj(behind, file, _COPY_BYTES)
        file.seek(_W64_SIZE_AT)
        file.write(struct.pack("<Q", size_bytes + len(whole)))


_COPY_BYTES = 1 << 20
_W64_HEAD_BYTES, _W64_SIZE_AT = 24, 16


def _w64_chunk(name: bytes, body: bytes) -> bytes:
    return w64_name(name) + struct.pack("<Q", len(body) + _W64_HEAD_BYTES) + body + b"\0" * (-len(body) % 8)
