"""Change some tags of a file and leave all others as they are, also those that nobody here knows."""

import os
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import mutagen
import mutagen.apev2
import mutagen.flac
import mutagen.id3

from rumbrel.core.containers.tail_tags import APE_MARK
from rumbrel.core.errors import TagError
from rumbrel.core.formats.table import TagForm, container_row

from .aiff_text import read_aiff_text, write_aiff_text
from .id3_frames import id3_frames, read_id3
from .mapping import PAIRS
from .model import Cover, TagSet
from .openers import opener_for
from .reading import field_of_key, read_tags
from .riff import read_foreign_info, read_riff_id3, write_riff_tags
from .unwritten import tags_not_written
from .writing import adder_for, with_tags

__all__ = ["TagChange", "can_edit", "edit_tags"]

_COVER_KEYS = {
    TagForm.VORBIS: ("metadata_block_picture", "coverart"),
    TagForm.MP4: ("covr",),
    TagForm.APE: ("cover art (front)", "cover art (back)"),
    TagForm.ASF: ("WM/Picture",),
}
_TOTALS = {"track": ("tracktotal", "totaltracks"), "disc": ("disctotal", "totaldiscs")}


@dataclass(frozen=True, slots=True, kw_only=True)
class TagChange:
    """fields are the new values by our names; () takes a field out. covers None leaves the pictures alone."""

    fields: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    covers: tuple[Cover, ...] | None = None

    @property
    def set_fields(self) -> dict[str, tuple[str, ...]]:
        return {name: values for name, values in self.fields.items() if values}


def can_edit(container: str, codec: str) -> bool:
    """Whether tags of a container can be changed here."""
    form = container_row(container).tags
    return form is TagForm.RIFF or (adder_for(form) is not None and opener_for(container, codec) is not None)


def edit_tags(path: Path, change: TagChange, *, container: str, codec: str) -> tuple[str, ...]:
    """Change the tags of a file in its place. Returns the names of what the format cannot hold.

    Raises TagError where the file cannot be written, or its tags not be read.
    """
    if not can_edit(container, codec):
        raise TagError(
            f"Tags of {container_row(container).label} cannot be written here. Convert it to another format."
        )
    form = container_row(container).tags
    try:
        if form is TagForm.RIFF:
            return _edit_riff(path, change)
        opener, add = opener_for(container, codec), adder_for(form)
        assert opener is not None and add is not None
        file = with_tags(opener(path))
        if form in (TagForm.ID3, TagForm.AIFF):
            _edit_id3(file.tags, change)
            file.save(**_version_of(file.tags))
            if form is TagForm.AIFF:
                write_aiff_text(path, _all_tags(path, container, codec, change))
            elif container == "mp3":
                _edit_ape_behind(path, change)
            return ()
        _take_out(file, form, change)
        lost = add(file, TagSet(fields=change.set_fields, covers=change.covers or ()))
        file.save()
        return tuple(lost)
    except (mutagen.MutagenError, ValueError, OverflowError, LookupError, OSError, struct.error) as error:
        raise tags_not_written(path, error) from error


def _version_of(tags: mutagen.id3.ID3Tags) -> dict[str, int]:
    """Tags stay of the version they are of, since programs that read 2.3 may not read 2.4; what is older becomes 2.3."""
    known = getattr(tags, "version", (2, 4, 0))
    if known >= (2, 4, 0):
        return {"v2_version": 4}
    tags.update_to_v23()
    return {"v2_version": 3}


def _edit_id3(tags: Any, change: TagChange) -> None:
    languages = read_id3(tags).languages
    for key, frame in list(tags.items()):
        if frame.FrameID == "APIC":
            if change.covers is not None:
                del tags[key]
            continue
        if hasattr(frame, "people"):
            frame.people = [
                pair for pair in frame.people if not _fields_of(_people(frame, [pair])) & set(change.fields)
            ]
            if not frame.people:
                del tags[key]
        elif _fields_of(frame) & set(change.fields):
            del tags[key]
    added = TagSet(fields=change.set_fields, covers=change.covers or (), languages=languages)
    for frame in id3_frames(added).values():
        there = tags.get(frame.HashKey) if hasattr(frame, "people") else None
        if there is not None:
            there.people += frame.people
        else:
            tags.add(frame)


def _people(frame: Any, pairs: list[list[str]]) -> Any:
    return mutagen.id3.Frames[frame.FrameID](encoding=3, people=pairs)


def _fields_of(frame: Any) -> set[str]:
    """The fields that a frame states: by the very map that reads it."""
    alone = mutagen.id3.ID3Tags()
    alone.add(frame)
    return set(read_id3(alone).fields)


def _take_out(file: Any, form: TagForm, change: TagChange) -> None:
    """Keys of changed fields in whatever spelling, and the pictures where these change."""
    gone = set(change.fields)
    totals = {name for field_name in gone & PAIRS for name in _TOTALS[field_name]}
    for key in {key for key, *_ in file.tags} if form in (TagForm.VORBIS, TagForm.ASF) else set(file.tags):
        is_cover = key in _COVER_KEYS[form] or key.lower() in _COVER_KEYS[form]
        if (is_cover and change.covers is not None) or field_of_key(form, key) in gone or key.lower() in totals:
            # Another spelling of it may have taken it out.
            if key in file.tags:
                del file.tags[key]
    if change.covers is not None and isinstance(file, mutagen.flac.FLAC):
        file.clear_pictures()


def _edit_ape_behind(path: Path, change: TagChange) -> None:
    """What an APE tag behind the frames of MP3 says of a changed field would else be read where ID3 says nothing."""
    with path.open("rb") as file:
        file.seek(-min(8192, path.stat().st_size), os.SEEK_END)
        if APE_MARK not in file.read():
            return
    tags = mutagen.apev2.APEv2(path)
    for key in list(tags):
        is_cover = key.lower() in _COVER_KEYS[TagForm.APE]
        if field_of_key(TagForm.APE, key) in change.fields or (is_cover and change.covers is not None):
            del tags[key]
    tags.save(path)


def _edit_riff(path: Path, change: TagChange) -> tuple[str, ...]:
    after = _all_tags(path, "wav", "pcm", change)
    frames = read_riff_id3(path)
    if frames is None:
        # The list alone had the tags so far: all that it says goes into frames too.
        frames = id3_frames(after)
    else:
        _edit_id3(frames, change)
    version = _version_of(frames)["v2_version"]
    write_riff_tags(path, frames, after, id3_version=version, foreign=read_foreign_info(path))
    return ()


def _all_tags(path: Path, container: str, codec: str, change: TagChange) -> TagSet:
    """What the file says when the change is made."""
    before = read_tags(path, container=container, codec=codec)
    fields = {**read_aiff_text(path), **before.fields} if container == "aiff" else dict(before.fields)
    fields = {name: values for name, values in fields.items() if name not in change.fields} | change.set_fields
    return TagSet(
        fields=fields, covers=before.covers if change.covers is None else change.covers, chapters=before.chapters,
        languages=before.languages,
    )  # fmt: skip
