"""Tags of FLAC, Ogg and MP4 taken from where they lie and given to the tag library's parsers.

The library reads a file's whole structure before its tags, which for thousands of files is most of
the time. What is not quite ordinary yields None here, and the library reads the file by itself.
"""

import io
import struct
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from mutagen.flac import Picture, VCFLACDict
from mutagen.mp4 import MP4Tags
from mutagen.mp4._atom import AtomError, Atoms

from rumbrel.core.containers.flac import COMMENTS, PICTURE, metadata_blocks
from rumbrel.core.containers.mp4 import box_inside
from rumbrel.core.containers.ogg import second_packet

__all__ = ["FoundTags", "read_directly"]


@dataclass(frozen=True, slots=True)
class FoundTags:
    """What the library's own file classes hold of the tags."""

    tags: VCFLACDict | MP4Tags | None
    pictures: tuple[Picture, ...] = ()


def _flac(file: BinaryIO, codec: str) -> FoundTags | None:
    """The metadata blocks before the first frame (RFC 9639, 8)."""
    comments, pictures, ended = [], [], False
    for kind, at, length, last in metadata_blocks(file):
        ended = last
        if kind in (COMMENTS, PICTURE):
            file.seek(at)
            body = file.read(length)
            if len(body) < length:
                return None
            comments += [VCFLACDict(body)] if kind == COMMENTS else []
            pictures += [Picture(body)] if kind == PICTURE else []
    if len(comments) > 1 or not ended:
        return None
    return FoundTags(comments[0] if comments else None, tuple(pictures))


_FIRST_PAGES_BYTES = 16 * 1024
_COMMENT_MARKS = {"vorbis": b"\x03vorbis", "opus": b"OpusTags"}


def _ogg(file: BinaryIO, codec: str) -> FoundTags | None:
    """The second packet of the only stream, where it ends in the first few pages (RFC 3533, RFC 7845)."""
    mark = _COMMENT_MARKS.get(codec)
    packet = None if mark is None else second_packet(file.read(_FIRST_PAGES_BYTES))
    if mark is None or packet is None or not packet.startswith(mark):
        return None
    return FoundTags(VCFLACDict(packet[len(mark) :]))


_LARGEST_LIST_BYTES = 64 * 1024 * 1024
_LIST_PATH = (b"moov", b"udta", b"meta", b"ilst")
_FULL_BOX_BYTES = 4
"""Version and flags, which the meta box has before what it holds."""


def _mp4(file: BinaryIO, codec: str) -> FoundTags | None:
    """The item list of the movie's user data, wrapped anew so that it alone is parsed (ISO/IEC 14496-12)."""
    meta = box_inside(file, (0, file.seek(0, io.SEEK_END)), *_LIST_PATH[:-1])
    items = box_inside(file, (meta[0] + _FULL_BOX_BYTES, meta[1]), _LIST_PATH[-1]) if meta else None
    if items is None or items[1] - items[0] > _LARGEST_LIST_BYTES:
        return None
    at, end = items
    file.seek(at)
    wrapped = file.read(end - at)
    for name in reversed(_LIST_PATH):
        inner = bytes(_FULL_BOX_BYTES) + wrapped if name == b"meta" else wrapped
        wrapped = struct.pack(">I4s", len(inner) + 8, name) + inner
    whole = io.BytesIO(wrapped)
    try:
        return FoundTags(MP4Tags(Atoms(whole), whole))
    except AtomError:
        # What is wrong with it is for the library to say, of the file as it is.
        return None


_READERS: dict[str, tuple[bytes, int, Callable[[BinaryIO, str], FoundTags | None]]] = {
    "flac": (b"fLaC", 0, _flac),
    "ogg": (b"OggS", 0, _ogg),
    "m4a": (b"ftyp", 4, _mp4),
}


def read_directly(path: Path, *, container: str, codec: str) -> FoundTags | None:
    """The tags of an ordinary file of a container with a row above, else None.

    Raises OSError, and mutagen.MutagenError for tags that are broken.
    """
    if container not in _READERS:
        return None
    mark, place, reader = _READERS[container]
    with path.open("rb") as file:
        if file.read(8)[place : place + len(mark)] != mark:
            return None
        file.seek(0)
        return reader(file, codec)
