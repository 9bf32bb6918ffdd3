"""Write a TagSet into a finished file; what the format cannot hold is returned, not lost in silence."""

import base64
from collections.abc import Callable
from pathlib import Path
from typing import Any

import mutagen
import mutagen.apev2
import mutagen.flac
import mutagen.id3
import mutagen.mp4

from rumbrel.core.errors import TagError

from .mapping import PAIRS, row_for
from .model import Cover, TagSet
from .openers import opener_for

__all__ = ["write_tags"]

_FREE_FORM = "----:org.rumbrel:"


def _write_id3(file: Any, tags: TagSet) -> list[str]:
    if file.tags is None:
        file.add_tags()
    frames = file.tags
    frames.clear()
    for name, values in tags.fields.items():
        row = row_for(name)
        key = row.id3 if row else f"TXXX:{name}"
        text = list(values)
        if key.startswith("TXXX:"):
            frames.add(mutagen.id3.TXXX(encoding=3, desc=key[5:], text=text))
        elif key == "COMM":
            frames.add(mutagen.id3.COMM(encoding=3, lang="und", desc="", text=text))
        elif key == "USLT":
            frames.add(mutagen.id3.USLT(encoding=3, lang="und", desc="", text="\n".join(text)))
        else:
            frames.add(mutagen.id3.Frames[key](encoding=3, text=text))
    for number, cover in enumerate(tags.covers):
        # Frames of one description replace each other, so later ones are numbered.
        description = cover.description or (str(number) if number else "")
        frames.add(
            mutagen.id3.APIC(encoding=3, mime=cover.media_type, type=cover.kind, desc=description, data=cover.data)
        )
    return []


def _numbers(value: str) -> tuple[int, int]:
    number, _, total = value.partition("/")
    return (int(number), int(total) if total.strip().isdigit() else 0)


_MP4_FORMATS = {"image/jpeg": mutagen.mp4.MP4Cover.FORMAT_JPEG, "image/png": mutagen.mp4.MP4Cover.FORMAT_PNG}


def _write_mp4(file: Any, tags: TagSet) -> list[str]:
    if file.tags is None:
        file.add_tags()
    lost = []
    atoms = file.tags
    for name, values in tags.fields.items():
        row = row_for(name)
        key = row.mp4 if row else f"----:{name}"
        try:
            if key in ("trkn", "disk"):
                atoms[key] = [_numbers(value) for value in values]
            elif key == "tmpo":
                atoms[key] = [round(float(value)) for value in values]
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
    if file.tags is None:
        file.add_tags()
    file.tags.clear()
    lost = []
    for name, values in tags.fields.items():
        row = row_for(name)
        key = row.vorbis if row else name
        try:
            if name in PAIRS and "/" in values[0]:
                number, _, total = values[0].partition("/")
                file.tags[key] = [number]
                file.tags[f"{name.upper()}TOTAL"] = [total]
            else:
                file.tags[key] = list(values)
        except ValueError:
            lost.append(name)
    pictures = [_flac_picture(cover) for cover in tags.covers]
    if isinstance(file, mutagen.flac.FLAC):
        file.clear_pictures()
        for picture in pictures:
            file.add_picture(picture)
    elif pictures:
        file.tags["METADATA_BLOCK_PICTURE"] = [base64.b64encode(picture.write()).decode() for picture in pictures]
    return lost


def _write_ape(file: Any, tags: TagSet) -> list[str]:
    if file.tags is None:
        file.add_tags()
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


# By container key: how its tags are written. A container without a row holds none.
_WRITERS: dict[str, Callable[[Any, TagSet], list[str]]] = {
    "wav": _write_id3,
    "aiff": _write_id3,
    "mp3": _write_id3,
    "m4a": _write_mp4,
    "flac": _write_vorbis,
    "ogg": _write_vorbis,
    "wavpack": _write_ape,
}


def write_tags(path: Path, tags: TagSet, *, container: str, codec: str) -> tuple[str, ...]:
    """Replace the tags of a finished file. Returns the names of fields the format could not hold.

    Raises TagError when the file cannot be written.
    """
    if not tags.fields and not tags.covers:
        return ()
    write, opener = _WRITERS.get(container), opener_for(container, codec)
    if write is None or opener is None:
        return tuple(tags.fields) + (("cover",) if tags.covers else ())
    try:
        file = opener(path)
        lost = write(file, tags)
        file.save()
    except (mutagen.MutagenError, ValueError, OSError) as error:
        raise TagError(f"The tags could not be written: {error}.") from error
    return tuple(lost)
