"""Read tags and covers of any format into a TagSet."""

import base64
import binascii
import os
import re
import struct
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any, BinaryIO

import av
import av.error
import mutagen
import mutagen.apev2
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
from mutagen.asf._attrs import ASFByteArrayAttribute

from rumbrel.core.containers.flac import MARK, metadata_blocks
from rumbrel.core.containers.id3 import id3_bytes
from rumbrel.core.containers.mp4 import top_boxes
from rumbrel.core.containers.tail_tags import APE_MARK
from rumbrel.core.errors import TagError
from rumbrel.core.formats.table import TagForm, container_row

from .aiff_text import read_aiff_text
from .broadcast import BROADCAST_CONTAINERS, broadcast_names
from .direct import read_directly
from .fields import Fields, add, clean
from .id3_frames import read_id3
from .mapping import FIELDS
from .model import EMPTY_TAGS, Chapter, Cover, TagSet, joined_tags
from .openers import opener_for
from .opus_gains import FROM_R128, gain_text
from .riff import read_riff_id3, read_riff_info

__all__ = ["field_of_key", "read_tags"]

_FROM_MP4 = {row.mp4: row.name for row in FIELDS}
_FROM_VORBIS = {row.vorbis.lower(): row.name for row in FIELDS}
_FROM_APE = {row.ape.lower(): row.name for row in FIELDS}
_FROM_ASF = {row.asf: row.name for row in FIELDS}
_MUXER_NOTES = frozenset({"major_brand", "minor_version", "compatible_brands", "creation_time", "handler_name"})
_VORBIS_PICTURE = "metadata_block_picture"
# Chapters in Vorbis comments are read with the chapters of all formats, by FFmpeg.
_VORBIS_CHAPTER = re.compile(r"chapter\d{3}(name|url)?")


_MP4_IMAGES = {13: "image/jpeg", 14: "image/png"}


def _read_mp4(tags: mutagen.mp4.MP4Tags) -> TagSet:
    fields: Fields = {}
    covers: list[Cover] = []
    for key, values in tags.items():
        if key == "covr":
            covers += [
                Cover(media_type=_MP4_IMAGES.get(int(image.imageformat), "image/jpeg"), data=bytes(image))
                for image in values
            ]
        elif key in ("trkn", "disk"):
            texts = [f"{number}/{total}" if total else str(number) for number, total in values]
            add(fields, _FROM_MP4[key], texts)
        elif key.startswith("----:"):
            name = key.rsplit(":", 1)[-1]
            texts = [bytes(value).decode("utf-8", "replace") for value in values]
            add(fields, _FROM_MP4.get(f"----:{name.upper()}", name), [clean(text) for text in texts])
        elif isinstance(values, list):
            add(fields, _FROM_MP4.get(key, key), [clean(value) for value in values])
        elif values is True:
            add(fields, _FROM_MP4.get(key, key), ["1"])
    return TagSet(fields=fields, covers=tuple(covers))


def _picture(picture: mutagen.flac.Picture) -> Cover:
    return Cover(media_type=picture.mime, data=picture.data, kind=int(picture.type), description=picture.desc)


_TOTALS = {"tracktotal": "track", "totaltracks": "track", "disctotal": "disc", "totaldiscs": "disc"}
"""Fields of their own in which formats say how many there are."""


def _add_totals(fields: Fields, totals: Mapping[str, str]) -> None:
    for name, total in totals.items():
        if name in fields and "/" not in fields[name][0]:
            fields[name] = (f"{fields[name][0]}/{total}",)


def _read_vorbis(file: Any) -> TagSet:
    fields: Fields = {}
    covers = [_picture(picture) for picture in getattr(file, "pictures", ())]
    totals: dict[str, str] = {}
    chapters: dict[str, str] = {}
    for key, value in file.tags or ():
        name = key.lower()
        if _VORBIS_CHAPTER.fullmatch(name):
            chapters[name] = str(value)
            continue
        if name == _VORBIS_PICTURE:
            try:
                covers.append(_picture(mutagen.flac.Picture(base64.b64decode(value, validate=True))))
            except (binascii.Error, mutagen.MutagenError):
                # A broken picture costs the picture, not the rest of the tags.
                continue
        elif name in FROM_R128:
            with suppress(ValueError):
                add(fields, FROM_R128[name], [gain_text(str(value))])
        elif name in _TOTALS:
            totals[_TOTALS[name]] = clean(value)
        else:
            add(fields, _FROM_VORBIS.get(name, key), [clean(value)])
    _add_totals(fields, totals)
    return TagSet(fields=fields, covers=tuple(covers), chapters=_vorbis_chapters(chapters))


_CLOCK = re.compile(r"(\d+):(\d\d):(\d\d(?:\.\d+)?)")


def _vorbis_chapters(fields: Mapping[str, str]) -> tuple[Chapter, ...]:
    """Each begins where CHAPTERnnn says and ends where the next begins."""
    begun = []
    for key, value in sorted(fields.items()):
        clock = _CLOCK.fullmatch(value.strip())
        if len(key) == len("chapter000") and clock:
            start = int(clock[1]) * 3600 + int(clock[2]) * 60 + float(clock[3])
            begun.append((start, clean(fields.get(f"{key}name", ""))))
    ends = [start for start, _ in begun[1:]] + [begun[-1][0]] if begun else []
    return tuple(
        Chapter(start_seconds=start, end_seconds=max(start, end), title=title)
        for (start, title), end in zip(begun, ends, strict=True)
    )


def _read_ape(tags: mutagen.apev2.APEv2) -> TagSet:
    fields: Fields = {}
    covers: list[Cover] = []
    left_out: list[str] = []
    for key, value in tags.items():
        if key.lower().startswith("cover art") and isinstance(value, mutagen.apev2.APEBinaryValue):
            description, _, data = bytes(value).partition(b"\0")
            media_type = "image/png" if data.startswith(b"\x89PNG") else "image/jpeg"
            covers.append(Cover(media_type=media_type, data=data, description=description.decode("utf-8", "replace")))
        elif isinstance(value, mutagen.apev2.APETextValue):
            add(fields, _FROM_APE.get(key.lower(), key), [clean(text) for text in value])
        else:
            left_out.append(key)
    return TagSet(fields=fields, covers=tuple(covers), left_out=tuple(left_out))


def _asf_picture(raw: bytes) -> Cover | None:
    """Kind, length, then media type and description in UTF-16, each ended by a zero unit (common practice)."""
    if len(raw) < 9:
        return None
    kind, length = struct.unpack_from("<BI", raw)
    rest, texts = raw[5:], []
    for _ in range(2):
        end = next((at for at in range(0, len(rest) - 1, 2) if rest[at : at + 2] == b"\0\0"), None)
        if end is None:
            return None
        texts.append(rest[:end].decode("utf-16-le", "replace"))
        rest = rest[end + 2 :]
    return Cover(media_type=texts[0], data=rest[:length], kind=kind, description=texts[1])


def _read_asf(tags: mutagen.asf.ASFTags) -> TagSet:
    fields: Fields = {}
    covers: list[Cover] = []
    left_out: list[str] = []
    totals: dict[str, str] = {}
    for key, value in tags:
        if key.lower() in _TOTALS:
            totals[_TOTALS[key.lower()]] = clean(value)
        elif isinstance(value, ASFByteArrayAttribute):
            picture = _asf_picture(bytes(value.value or b"")) if key == "WM/Picture" else None
            covers += [picture] if picture else []
            left_out += [] if picture else [key]
        else:
            add(fields, _FROM_ASF.get(key, key), [clean(value)])
    _add_totals(fields, totals)
    return TagSet(fields=fields, covers=tuple(covers), left_out=tuple(dict.fromkeys(left_out)))


_READERS: tuple[tuple[type, Callable[[Any], TagSet]], ...] = (
    (mutagen.id3.ID3Tags, read_id3),
    (mutagen.mp4.MP4Tags, _read_mp4),
    (mutagen.apev2.APEv2, _read_ape),
    (mutagen.asf.ASFTags, _read_asf),
)


_KEYS: dict[TagForm, tuple[dict[str, str], Callable[[str], str]]] = {
    TagForm.VORBIS: (_FROM_VORBIS, str.lower),
    TagForm.APE: (_FROM_APE, str.lower),
    TagForm.ASF: (_FROM_ASF, str),
    TagForm.MP4: (_FROM_MP4, lambda key: f"----:{key.rsplit(':', 1)[-1].upper()}" if key.startswith("----:") else key),
}

_LARGEST_TAG_BYTES = 64 * 1024 * 1024


def _tag_bytes(file: BinaryIO) -> int:
    """How much of a file its tags take by its own statement: ID3v2, FLAC's metadata, or an MP4's moov box."""
    head = file.read(12)
    if head[:4] == MARK:
        return max((at + length for _, at, length, _ in metadata_blocks(file)), default=0)
    if head[4:8] == b"ftyp":
        return max((end - at for name, at, end in top_boxes(file) if name == b"moov"), default=0)
    return id3_bytes(head)


def _refuse_oversize(path: Path) -> None:
    """Tags are read whole into memory, so those beyond all measure are not read. Raises TagError."""
    if path.stat().st_size <= _LARGEST_TAG_BYTES:
        return
    with path.open("rb") as file:
        length = _tag_bytes(file)
    if length > _LARGEST_TAG_BYTES:
        raise TagError(f"The tags of {path.name} take {length:,} bytes, more than {_LARGEST_TAG_BYTES:,}.")


def read_tags(path: Path, *, container: str, codec: str, fallback: Mapping[str, str] | None = None) -> TagSet:
    """Tags and covers of a file; `fallback` is what FFmpeg read, for containers without a reader.

    Raises TagError when the tags are there but cannot be read.
    """
    opener, form = opener_for(container, codec), container_row(container).tags
    if opener is None and form is not TagForm.RIFF:
        plain = _read_plain(fallback or {})
        if container in BROADCAST_CONTAINERS:
            return replace(plain, broadcast=broadcast_names(path))
        return joined_tags(plain, _attached_pictures(path)) if form is TagForm.ATTACHED else plain
    _refuse_oversize(path)
    try:
        if opener is None or form is TagForm.RIFF:
            frames = read_riff_id3(path)
            listed = TagSet(fields=read_riff_info(path), broadcast=broadcast_names(path))
            return joined_tags(read_id3(frames), listed) if frames else listed
        if container == "mp3":
            return joined_tags(_mp3_id3(path), _mp3_ape(path))
        file = read_directly(path, container=container, codec=codec) or opener(path)
    except (mutagen.MutagenError, ValueError, OverflowError, LookupError, OSError, struct.error) as error:
        raise TagError(f"The tags of {path.name} cannot be read: {error}.") from error
    if not file.tags and not getattr(file, "pictures", ()):
        return TagSet(fields=read_aiff_text(path)) if form is TagForm.AIFF else EMPTY_TAGS
    for kind, reader in _READERS:
        if isinstance(file.tags, kind):
            return reader(file.tags)
    return _read_vorbis(file)


def field_of_key(form: TagForm, key: str) -> str:
    """The field that a key of a tag format stands for; the key itself where nobody standardised it."""
    table, told = _KEYS[form]
    return table.get(told(key), key)


def _mp3_id3(path: Path) -> TagSet:
    try:
        return read_id3(mutagen.id3.ID3(path))
    except mutagen.id3.ID3NoHeaderError:
        return EMPTY_TAGS


_APE_FOOTER_WITHIN_BYTES = 8192
"""ID3v1 and Lyrics3 tags may come behind it."""


def _mp3_ape(path: Path) -> TagSet:
    """The APE tag that some programs put behind the frames, mostly to state gains."""
    with path.open("rb") as file:
        file.seek(-min(_APE_FOOTER_WITHIN_BYTES, path.stat().st_size), os.SEEK_END)
        if APE_MARK not in file.read():
            return EMPTY_TAGS
    try:
        return _read_ape(mutagen.apev2.APEv2(path))
    except (mutagen.MutagenError, ValueError, LookupError, struct.error):
        return TagSet(left_out=("the APE tag, which is damaged",))


_ATTACHED = {"mjpeg": "image/jpeg", "png": "image/png"}


def _attached_pictures(path: Path) -> TagSet:
    """Pictures attached to a film, or to sound in a film's container."""
    found: list[Cover] = []
    try:
        with av.open(str(path), metadata_errors="replace") as opened:
            for stream in opened.streams.video:
                media_type = _ATTACHED.get(stream.codec_context.name if stream.codec_context else "")
                if media_type and stream.disposition & av.stream.Disposition.attached_pic:
                    picture = next((packet for packet in opened.demux(stream) if packet.size), None)
                    found += [Cover(media_type=media_type, data=bytes(picture))] if picture else []
    except (av.error.FFmpegError, OSError):
        return TagSet(covers=tuple(found), left_out=("the attached pictures, which cannot be read",))
    return TagSet(covers=tuple(found))


def _read_plain(metadata: Mapping[str, str]) -> TagSet:
    fields: Fields = {}
    for key, value in metadata.items():
        if key.lower() not in _MUXER_NOTES:
            add(fields, _FROM_VORBIS.get(key.lower(), key), [clean(value)])
    return TagSet(fields=fields)
