"""Read tags and covers of any format into a TagSet."""

import base64
import binascii
import re
import struct
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, BinaryIO

import mutagen
import mutagen.apev2
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
from mutagen.asf._attrs import ASFByteArrayAttribute

from rumbrel.core.errors import TagError

from .aiff_text import read_aiff_text
from .direct import read_directly
from .mapping import FIELDS
from .model import EMPTY_TAGS, Chapter, Cover, TagSet
from .openers import Opener, opener_for
from .riff import read_riff_id3, read_riff_info

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
# Chapters in Vorbis comments are read with the chapters of all formats, by FFmpeg.
_VORBIS_CHAPTER = re.compile(r"chapter\d{3}(name|url)?")


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
    return TagSet(fields=fields, covers=tuple(covers), chapters=_id3_chapters(tags))


def _id3_chapters(tags: mutagen.id3.ID3Tags) -> tuple[Chapter, ...]:
    found = []
    for frame in tags.getall("CHAP"):
        title = frame.sub_frames.get("TIT2")
        text = _clean(title.text[0]) if title and title.text else ""
        found.append(Chapter(start_seconds=frame.start_time / 1000, end_seconds=frame.end_time / 1000, title=text))
    return tuple(sorted(found, key=lambda chapter: chapter.start_seconds))


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
        elif name in ("tracktotal", "totaltracks", "disctotal", "totaldiscs"):
            totals["track" if "track" in name else "disc"] = _clean(value)
        else:
            _add(fields, _FROM_VORBIS.get(name, key), [_clean(value)])
    for name, total in totals.items():
        if name in fields and "/" not in fields[name][0]:
            fields[name] = (f"{fields[name][0]}/{total}",)
    return TagSet(fields=fields, covers=tuple(covers), chapters=_vorbis_chapters(chapters))


_CLOCK = re.compile(r"(\d+):(\d\d):(\d\d(?:\.\d+)?)")


def _vorbis_chapters(fields: Mapping[str, str]) -> tuple[Chapter, ...]:
    """Each begins where CHAPTERnnn says and ends where the next begins."""
    begun = []
    for key, value in sorted(fields.items()):
        clock = _CLOCK.fullmatch(value.strip())
        if len(key) == len("chapter000") and clock:
            start = int(clock[1]) * 3600 + int(clock[2]) * 60 + float(clock[3])
            begun.append((start, _clean(fields.get(f"{key}name", ""))))
    ends = [start for start, _ in begun[1:]] + [begun[-1][0]] if begun else []
    return tuple(
        Chapter(start_seconds=start, end_seconds=max(start, end), title=title)
        for (start, title), end in zip(begun, ends, strict=True)
    )


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
    for key, value in tags:
        if isinstance(value, ASFByteArrayAttribute):
            picture = _asf_picture(bytes(value.value or b"")) if key == "WM/Picture" else None
            covers += [picture] if picture else []
        else:
            _add(fields, _FROM_ASF.get(key, key), [_clean(value)])
    return TagSet(fields=fields, covers=tuple(covers))


_READERS: tuple[tuple[type, Callable[[Any], TagSet]], ...] = (
    (mutagen.id3.ID3Tags, _read_id3),
    (mutagen.mp4.MP4Tags, _read_mp4),
    (mutagen.apev2.APEv2, _read_ape),
    (mutagen.asf.ASFTags, _read_asf),
)


_RIFF = frozenset({"wav", "rf64"})
_LARGEST_TAG_BYTES = 64 * 1024 * 1024


def _tag_bytes(file: BinaryIO) -> int:
    """How much of a file its tags take by its own statement: ID3v2, FLAC's metadata, or an MP4's moov box."""
    head = file.read(12)
    if head[:3] == b"ID3" and len(head) == 12:
        return head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]
    if head[:4] == b"fLaC":
        at, last = 4, False
        while not last and at < _LARGEST_TAG_BYTES:
            file.seek(at)
            block = file.read(4)
            last = len(block) < 4 or bool(block[0] & 0x80)
            at += 4 + int.from_bytes(block[1:], "big")
        return at
    if head[4:8] == b"ftyp":
        at, size, name = 0, int.from_bytes(head[:4], "big"), b"ftyp"
        while size >= 8 and name != b"moov":
            at += size
            file.seek(at)
            box = file.read(16)
            size, name = int.from_bytes(box[:4], "big"), box[4:8]
            size = int.from_bytes(box[8:], "big") if size == 1 else size
        return size if name == b"moov" else 0
    return 0


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
    plain = _read_plain(fallback or {})
    opener = opener_for(container, codec)
    if opener is None and container not in _RIFF:
        return plain
    _refuse_oversize(path)
    try:
        if opener is None or container in _RIFF:
            frames = read_riff_id3(path)
            return _read_id3(frames) if frames else TagSet(fields=read_riff_info(path))
        file = _open_tags(path, container, codec, opener)
    except mutagen.id3.ID3NoHeaderError:
        return EMPTY_TAGS
    except (mutagen.MutagenError, ValueError, OverflowError, LookupError, OSError, struct.error) as error:
        raise TagError(f"The tags of {path.name} cannot be read: {error}.") from error
    if isinstance(file, mutagen.id3.ID3):
        return _read_id3(file)
    if not file.tags and not getattr(file, "pictures", ()):
        return TagSet(fields=read_aiff_text(path)) if container == "aiff" else EMPTY_TAGS
    for kind, reader in _READERS:
        if isinstance(file.tags, kind):
            return reader(file.tags)
    return _read_vorbis(file)


def _open_tags(path: Path, container: str, codec: str, opener: Opener) -> Any:
    """The tags alone where they can be had without the frames behind them."""
    if container == "mp3":
        return mutagen.id3.ID3(path)
    return read_directly(path, container=container, codec=codec) or opener(path)


def _read_plain(metadata: Mapping[str, str]) -> TagSet:
    fields: Fields = {}
    for key, value in metadata.items():
        if key.lower() not in _MUXER_NOTES:
            _add(fields, _FROM_VORBIS.get(key.lower(), key), [_clean(value)])
    return TagSet(fields=fields)
