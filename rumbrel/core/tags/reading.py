"""Read tags and covers of any format into a TagSet."""

import base64
import binascii
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import mutagen
import mutagen.apev2
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
from mutagen.asf._attrs import ASFByteArrayAttribute

from rumbrel.core.errors import TagError

from .mapping import FIELDS
from .model import EMPTY_TAGS, Cover, TagSet
from .openers import opener_for

__all__ = ["read_tags"]

Fields = dict[str, tuple[str, ...]]

_FROM_ID3 = {row.id3: row.name for row in FIELDS}
_FROM_MP4 = {row.mp4: row.name for row in FIELDS}
_FROM_VORBIS = {row.vorbis.lower(): row.name for row in FIELDS}
_FROM_APE = {row.ape.lower(): row.name for row in FIELDS}
_FROM_ASF = {row.asf: row.name for row in FIELDS}
# Stated by the encoder or the muxer about itself, not about the piece.
_TECHNICAL = frozenset({"encoder", "\xa9too", "TSSE", "WM/EncodingSettings", "iTunSMPB", "vendor"})
_MUXER_NOTES = frozenset({"major_brand", "minor_version", "compatible_brands", "creation_time", "handler_name"})
_VORBIS_PICTURE = "metadata_block_picture"


def _clean(value: object) -> str:
    """Text without the NULs that some writers leave at the end of a field."""
    return str(value).replace("\0", "").strip()


def _add(fields: Fields, name: str, values: list[str]) -> None:
    kept = tuple(value for value in values if value)
    if kept and name not in _TECHNICAL:
        fields[name] = fields.get(name, ()) + kept


def _read_id3(tags: mutagen.id3.ID3Tags) -> TagSet:
    fields: Fields = {}
    covers = []
    for frame in tags.values():
        kind = frame.FrameID
        if kind == "APIC":
            covers.append(Cover(media_type=frame.mime, data=frame.data, kind=int(frame.type), description=frame.desc))
        elif kind == "TXXX":
            key = f"TXXX:{frame.desc.upper()}"
            _add(fields, _FROM_ID3.get(key, frame.desc), [_clean(text) for text in frame.text])
        elif kind in ("COMM", "USLT"):
            texts = frame.text if kind == "COMM" else [frame.text]
            # A described comment is a program's private note; the plain one is the user's.
            if kind == "USLT" or not frame.desc:
                _add(fields, _FROM_ID3[kind], [_clean(text) for text in texts])
        elif kind == "TCON":
            _add(fields, "genre", [_clean(text) for text in frame.genres])
        elif kind in _FROM_ID3:
            _add(fields, _FROM_ID3[kind], [_clean(text) for text in frame.text])
        elif kind.startswith("T") and hasattr(frame, "text"):
            _add(fields, kind, [_clean(text) for text in frame.text])
    return TagSet(fields=fields, covers=tuple(covers))


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
            _add(fields, _FROM_MP4[key], texts)
        elif key.startswith("----:"):
            name = key.rsplit(":", 1)[-1]
            texts = [bytes(value).decode("utf-8", "replace") for value in values]
            _add(fields, _FROM_MP4.get(f"----:{name.upper()}", name), [_clean(text) for text in texts])
        elif isinstance(values, list):
            _add(fields, _FROM_MP4.get(key, key), [_clean(value) for value in values])
    return TagSet(fields=fields, covers=tuple(covers))


def _picture(picture: mutagen.flac.Picture) -> Cover:
    return Cover(media_type=picture.mime, data=picture.data, kind=int(picture.type), description=picture.desc)


def _read_vorbis(file: Any) -> TagSet:
    fields: Fields = {}
    covers = [_picture(picture) for picture in getattr(file, "pictures", ())]
    totals: dict[str, str] = {}
    for key, value in file.tags or ():
        name = key.lower()
        if name == _VORBIS_PICTURE:
            try:
                covers.append(_picture(mutagen.flac.Picture(base64.b64decode(value, validate=True))))
            except (binascii.Error, mutagen.MutagenError):
                # A broken picture costs the picture, not the rest of the tags.
                continue
        elif name in ("tracktotal", "totaltracks", "disctotal", "totaldiscs"):
            totals["track" if "track" in name else "disc"] = _clean(value)
        else:
            _add(fields, _FROM_VORBIS.get(name, key), [_clean(value)])
    for name, total in totals.items():
        if name in fields and "/" not in fields[name][0]:
            fields[name] = (f"{fields[name][0]}/{total}",)
    return TagSet(fields=fields, covers=tuple(covers))


def _read_ape(tags: mutagen.apev2.APEv2) -> TagSet:
    fields: Fields = {}
    covers = []
    for key, value in tags.items():
        if key.lower().startswith("cover art") and isinstance(value, mutagen.apev2.APEBinaryValue):
            description, _, data = bytes(value).partition(b"\0")
            media_type = "image/png" if data.startswith(b"\x89PNG") else "image/jpeg"
            covers.append(Cover(media_type=media_type, data=data, description=description.decode("utf-8", "replace")))
        elif isinstance(value, mutagen.apev2.APETextValue):
            _add(fields, _FROM_APE.get(key.lower(), key), [_clean(text) for text in value])
    return TagSet(fields=fields, covers=tuple(covers))


def _read_asf(tags: mutagen.asf.ASFTags) -> TagSet:
    fields: Fields = {}
    for key, value in tags:
        if isinstance(value, str) or not isinstance(value, ASFByteArrayAttribute):
            _add(fields, _FROM_ASF.get(key, key), [_clean(value)])
    return TagSet(fields=fields)


_READERS: tuple[tuple[type, Callable[[Any], TagSet]], ...] = (
    (mutagen.id3.ID3Tags, _read_id3),
    (mutagen.mp4.MP4Tags, _read_mp4),
    (mutagen.apev2.APEv2, _read_ape),
    (mutagen.asf.ASFTags, _read_asf),
)


def read_tags(path: Path, *, container: str, codec: str, fallback: Mapping[str, str] | None = None) -> TagSet:
    """Tags and covers of a file; `fallback` is what FFmpeg read, for containers without a reader.

    Raises TagError when the tags are there but cannot be read.
    """
    opener = opener_for(container, codec)
    if opener is None:
        return _read_plain(fallback or {})
    try:
        file = opener(path)
    except (mutagen.MutagenError, ValueError, OverflowError, LookupError) as error:
        raise TagError(f"The tags of {path.name} cannot be read: {error}.") from error
    if file.tags is None:
        return EMPTY_TAGS
    for kind, reader in _READERS:
        if isinstance(file.tags, kind):
            return reader(file.tags)
    return _read_vorbis(file)


def _read_plain(metadata: Mapping[str, str]) -> TagSet:
    fields: Fields = {}
    for key, value in metadata.items():
        if key.lower() not in _MUXER_NOTES:
            _add(fields, _FROM_VORBIS.get(key.lower(), key), [_clean(value)])
    return TagSet(fields=fields)
