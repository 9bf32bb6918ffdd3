"""Write a TagSet into a finished file; what the format cannot hold is returned, not lost in silence."""

import base64
import struct
from collections.abc import Callable
from inspect import signature
from pathlib import Path
from typing import Any

import mutagen
import mutagen.apev2
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
from mutagen.asf._attrs import ASFByteArrayAttribute
from mutagen.easymp4 import EasyMP4Tags
from mutagen.oggopus import OggOpus

from rumbrel.core.formats.table import TagForm, container_row

from .aiff_text import write_aiff_text
from .chapters import write_m4a_chapters
from .id3_frames import id3_frames
from .mapping import FIELDS, PAIRS, row_for
from .model import Cover, TagSet
from .openers import opener_for
from .opus_gains import R128_FIELDS, r128_gain
from .riff import write_riff_tags
from .unwritten import tags_not_written

__all__ = ["adder_for", "unheld_fields", "with_tags", "write_tags"]

_FREE_FORM = f"----:{signature(EasyMP4Tags.RegisterFreeformKey).parameters['mean'].default}:"
"""The name space of free-form fields in MP4: the tag library's own, where other readers look too."""


def _write_id3(file: Any, tags: TagSet) -> list[str]:
    for frame in id3_frames(tags).values():
        file.tags.add(frame)
    return []


def _numbers(value: str) -> tuple[int, int]:
    number, _, total = value.partition("/")
    return (int(number), int(total) if total.strip().isdigit() else 0)


_MP4_FORMATS = {"image/jpeg": mutagen.mp4.MP4Cover.FORMAT_JPEG, "image/png": mutagen.mp4.MP4Cover.FORMAT_PNG}


_MP4_FLAGS = frozenset({"cpil", "pgap", "pcst"})
_MP4_NUMBERS = frozenset({"tmpo", "stik", "rtng", "hdvd", "tvsn", "tves"})
_MP4_OWN = _MP4_FLAGS | _MP4_NUMBERS | {"desc", "ldes", "tvsh", "tven", "tvnn", "catg", "keyw", "purd"}
"""Items that only MP4 has, such as gapless playing and the kind of medium, are kept between its files under their own
names (common practice)."""


def _write_mp4(file: Any, tags: TagSet) -> list[str]:
    lost = []
    atoms = file.tags
    for name, values in tags.fields.items():
        row = row_for(name)
        key = row.mp4 if row else name if name in _MP4_OWN else f"----:{name}"
        try:
            if key in ("trkn", "disk"):
                atoms[key] = [_numbers(value) for value in values]
            elif key in _MP4_NUMBERS:
                atoms[key] = [round(float(value)) for value in values]
            elif key in _MP4_FLAGS:
                atoms[key] = values[0].strip().lower() in ("1", "true", "yes")
            elif key.startswith("----:"):
                atoms[_FREE_FORM + key[5:]] = [value.encode() for value in values]
            else:
                atoms[key] = list(values)
        except ValueError:
            lost.append(name)
    fit = [cover for cover in tags.covers if cover.media_type in _MP4_FORMATS]
    if fit:
        atoms["covr"] = [mutagen.mp4.MP4Cover(cover.data, _MP4_FORMATS[cover.media_type]) for cover in fit]
    if len(fit) < len(tags.covers):
        lost.append("cover")
    return lost


def _flac_picture(cover: Cover) -> mutagen.flac.Picture:
    picture = mutagen.flac.Picture()
    picture.type, picture.mime, picture.desc, picture.data = cover.kind, cover.media_type, cover.description, cover.data
    return picture


def _write_vorbis(file: Any, tags: TagSet) -> list[str]:
    lost, is_opus = [], isinstance(file, OggOpus)
    for name, values in tags.fields.items():
        row = row_for(name)
        key = row.vorbis if row else name
        try:
            if name in PAIRS and "/" in values[0]:
                number, _, total = values[0].partition("/")
                file.tags[key] = [number]
                file.tags[f"{name.upper()}TOTAL"] = [total]
            elif is_opus and name in R128_FIELDS and (gain := r128_gain(values[0])) is not None:
                file.tags[R128_FIELDS[name]] = [gain]
            else:
                file.tags[key] = list(values)
        except ValueError:
            lost.append(name)
    for place, chapter in enumerate(tags.chapters, 1):
        # Chapter extension of Vorbis comments (common practice).
        minutes, seconds = divmod(chapter.start_seconds, 60)
        file.tags[f"CHAPTER{place:03d}"] = [f"{int(minutes) // 60:02d}:{int(minutes) % 60:02d}:{seconds:06.3f}"]
        file.tags[f"CHAPTER{place:03d}NAME"] = [chapter.title]
    pictures = [_flac_picture(cover) for cover in tags.covers]
    if isinstance(file, mutagen.flac.FLAC):
        for picture in pictures:
            file.add_picture(picture)
    elif pictures:
        file.tags["METADATA_BLOCK_PICTURE"] = [base64.b64encode(picture.write()).decode() for picture in pictures]
    return lost


def _write_ape(file: Any, tags: TagSet) -> list[str]:
    lost = []
    for name, values in tags.fields.items():
        row = row_for(name)
        try:
            file.tags[row.ape if row else name] = list(values)
        except (KeyError, ValueError, TypeError):
            lost.append(name)
    for cover in tags.covers[:1]:
        ending = "png" if cover.media_type == "image/png" else "jpg"
        data = f"cover.{ending}".encode() + b"\0" + cover.data
        file.tags["Cover Art (Front)"] = mutagen.apev2.APEValue(data, mutagen.apev2.BINARY)
    return lost + (["cover"] if len(tags.covers) > 1 else [])


def _asf_picture(cover: Cover) -> bytes:
    texts = b"".join(text.encode("utf-16-le") + b"\0\0" for text in (cover.media_type, cover.description))
    return struct.pack("<BI", cover.kind, len(cover.data)) + texts + cover.data


def _write_asf(file: Any, tags: TagSet) -> list[str]:
    for name, values in tags.fields.items():
        row = row_for(name)
        number, slash, total = values[0].partition("/") if name in PAIRS else ("", "", "")
        if slash:
            # Other readers take the number alone.
            file.tags[f"{name.upper()}TOTAL"] = [total]
        file.tags[row.asf if row else name] = [number] if slash else list(values)
    if tags.covers:
        file.tags["WM/Picture"] = [ASFByteArrayAttribute(data=_asf_picture(cover)) for cover in tags.covers]
    return []


# How tags of a form are added to what a file has, through the tag library. A form without a row is written otherwise, or not at all.
_WRITERS: dict[TagForm, Callable[[Any, TagSet], list[str]]] = {
    TagForm.AIFF: _write_id3,
    TagForm.ID3: _write_id3,
    TagForm.MP4: _write_mp4,
    TagForm.VORBIS: _write_vorbis,
    TagForm.APE: _write_ape,
    TagForm.ASF: _write_asf,
}
_STATE_NOTHING_ELSE = frozenset({TagForm.MP4, TagForm.APE})
"""What else a fresh file of these has in its tags is its encoder's own, and stays."""


def with_tags(file: Any) -> Any:
    """An opened file that has tags, if empty ones."""
    if file.tags is None:
        file.add_tags()
    return file


def _emptied(file: Any, form: TagForm) -> Any:
    with_tags(file)
    if form not in _STATE_NOTHING_ELSE:
        file.tags.clear()
        if isinstance(file, mutagen.flac.FLAC):
            file.clear_pictures()
    return file


def adder_for(form: TagForm) -> Callable[[Any, TagSet], list[str]] | None:
    """Adds fields and covers to an opened file's tags, returning the names of what they cannot hold."""
    return _WRITERS.get(form)


_OF_A_LANGUAGE = frozenset({TagForm.ID3, TagForm.AIFF, TagForm.RIFF})
"""Forms in which a plain comment states its language."""
_NOT_IN_ID3V23 = frozenset({"title_sort", "artist_sort", "album_sort", "mood"})


def unheld_fields(tags: TagSet, *, container: str) -> tuple[str, ...]:
    """What a container cannot hold at all, known beforehand."""
    lost: tuple[str, ...] = ()
    row = container_row(container)
    if row.tags not in _WRITERS and row.tags is not TagForm.RIFF:
        lost = tuple(tags.fields) + (("cover",) if tags.covers else ())
    if tags.chapters and not row.chapters:
        lost += ("chapters",)
    if row.tags not in _OF_A_LANGUAGE:
        lost += tuple(f"the language of {row.label.lower()}" for row in FIELDS if row.name in tags.languages)
    return lost


def write_tags(path: Path, tags: TagSet, *, container: str, codec: str, id3_version: int = 4) -> tuple[str, ...]:
    """Replace the tags of a finished file. Returns the names of fields the format could not hold.

    Raises TagError when the file cannot be written.
    """
    if not tags.fields and not tags.covers and not tags.chapters:
        return ()
    form = container_row(container).tags
    lost = list(unheld_fields(tags, container=container))
    if id3_version == 3 and (form is TagForm.RIFF or _WRITERS.get(form) is _write_id3):
        lost += [name for name in tags.fields if name in _NOT_IN_ID3V23]
    try:
        if form is TagForm.RIFF:
            frames = id3_frames(tags)
            if id3_version == 3:
                frames.update_to_v23()
            write_riff_tags(path, frames, tags, id3_version=id3_version)
            return tuple(lost)
        write, opener = _WRITERS.get(form), opener_for(container, codec)
        if write is None or opener is None:
            return tuple(lost)
        if form is TagForm.MP4 and tags.chapters:
            write_m4a_chapters(path, tags.chapters)
        file = opener(path)
        lost += write(_emptied(file, form), tags)
        if write is _write_id3:
            if id3_version == 3:
                file.tags.update_to_v23()
            file.save(v2_version=id3_version)
            if form is TagForm.AIFF:
                write_aiff_text(path, tags)
        else:
            file.save()
    except (mutagen.MutagenError, ValueError, OSError, struct.error) as error:
        raise tags_not_written(path, error) from error
    return tuple(lost)
