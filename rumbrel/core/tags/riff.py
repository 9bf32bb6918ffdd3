"""Chunks of tags in RIFF files: LIST INFO and ID3, also in RF64 (EBU Tech 3306), which states sizes in ds64."""

import io
import struct
from collections.abc import Iterator
from pathlib import Path

import mutagen.id3

from rumbrel.core.containers.chunks import append_riff, list_chunks
from rumbrel.core.errors import TagError

from .mapping import FIELDS
from .model import TagSet
from .text import decoded_text

__all__ = ["read_foreign_info", "read_riff_id3", "read_riff_info", "write_riff_tags"]

_LARGEST_ID3_BYTES = 64 * 1024 * 1024
_LARGEST_INFO_BYTES = 1024 * 1024


def read_riff_id3(path: Path) -> mutagen.id3.ID3 | None:
    """The ID3 chunk of a RIFF or RF64 file, or None. Raises mutagen.MutagenError when it is broken."""
    with path.open("rb") as file:
        for name, at, length in list_chunks(file):
            if name.lower() == b"id3 " and 10 < length <= _LARGEST_ID3_BYTES:
                file.seek(at)
                return mutagen.id3.ID3(io.BytesIO(file.read(length)))
    return None


def _info_entries(path: Path) -> Iterator[tuple[bytes, bytes]]:
    """Names and entries of a LIST INFO chunk, each entry whole as it stands in the file."""
    with path.open("rb") as file:
        for name, at, length in list_chunks(file):
            if name != b"LIST" or length > _LARGEST_INFO_BYTES:
                continue
            file.seek(at)
            body = file.read(length)
            place = 4 if body[:4] == b"INFO" else len(body)
            while place + 8 <= len(body):
                key, size = struct.unpack_from("<4sI", body, place)
                end = place + 8 + size + size % 2
                yield key, body[place:end]
                place = end


def read_riff_info(path: Path) -> dict[str, tuple[str, ...]]:
    """The fields of a LIST INFO chunk; text is UTF-8 or, where it is none, Latin 1."""
    by_name = {row.riff.encode(): row.name for row in FIELDS if row.riff}
    fields: dict[str, tuple[str, ...]] = {}
    for key, entry in _info_entries(path):
        text = decoded_text(entry[8:].split(b"\0")[0]).strip()
        if key in by_name and text:
            fields[by_name[key]] = (text,)
    return fields


def _info_chunk(tags: TagSet, foreign: bytes) -> bytes:
    """LIST INFO in UTF-8, each value ended by a zero byte and padded to an even length."""
    body = b"INFO"
    for row in FIELDS:
        values = tags.fields.get(row.name)
        if row.riff and values:
            text = "; ".join(values).replace("\0", " ").encode("utf-8", "replace") + b"\0"
            body += struct.pack("<4sI", row.riff.encode(), len(text)) + text + b"\0" * (len(text) % 2)
    body += foreign
    return b"" if body == b"INFO" else struct.pack("<4sI", b"LIST", len(body)) + body


def read_foreign_info(path: Path) -> bytes:
    """The entries of a LIST INFO chunk that are none of our fields, as they stand in the file."""
    ours = {row.riff.encode() for row in FIELDS if row.riff}
    entries = (entry for key, entry in _info_entries(path) if key not in ours and _is_whole(entry))
    return b"".join(entry + b"\0" * (len(entry) % 2) for entry in entries)


def _is_whole(entry: bytes) -> bool:
    """Whether the list's end does not cut it off."""
    return len(entry) >= 8 + int.from_bytes(entry[4:8], "little")


def write_riff_tags(
    path: Path, frames: mutagen.id3.ID3, tags: TagSet, *, id3_version: int, foreign: bytes = b""
) -> None:
    """Append an INFO list for plain readers and an ID3 chunk for the rest; older ones become waste. foreign are
    entries of the list as read_foreign_info gives them.

    Raises TagError when the file is no RIFF, or would pass what its sizes can state.
    """
    id3 = io.BytesIO()
    frames.save(id3, v2_version=id3_version, v1=0)
    coded = id3.getvalue()
    extra = _info_chunk(tags, foreign) + struct.pack("<4sI", b"id3 ", len(coded)) + coded + b"\0" * (len(coded) % 2)
    with path.open("r+b") as file:
        chunks = list_chunks(file)
        if not chunks:
            raise TagError("The tags could not be written: this is not a RIFF file.")
        for name, at, length in chunks:
            file.seek(at)
            if name.lower() == b"id3 " or (name == b"LIST" and length >= 4 and file.read(4) == b"INFO"):
                file.seek(at - 8)
                file.write(b"JUNK")
        append_riff(file, extra)
