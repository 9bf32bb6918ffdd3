"""Change some tags of a file and leave all others as they are, also those that nobody here knows."""

import os
import struct
from collections.abc import Collection, Mapping
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
from .layout import Layout, fields_of_frame, fields_of_people, is_cover, layout_of, put_back, states
from .model import Cover, TagSet
from .openers import opener_for
from .reading import read_tags
from .riff import read_foreign_info, read_riff_id3, write_riff_tags
from .unwritten import tags_not_written
from .writing import adder_for, with_tags

__all__ = ["TagChange", "can_edit", "edit_tags", "read_layout"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TagChange:
    """fields are the new values by our names; () takes a field out. covers None leaves the pictures alone. layout is how
    a file stated these fields before, where that is what they go back to."""

    fields: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    covers: tuple[Cover, ...] | None = None
    layout: Layout | None = None

    @property
    def set_fields(self) -> dict[str, tuple[str, ...]]:
        return {name: values for name, values in self.fields.items() if values}


def can_edit(container: str, codec: str) -> bool:
    """Whether tags of a container can be changed here."""
    form = container_row(container).tags
    return form is TagForm.RIFF or (adder_for(form) is not None and opener_for(container, codec) is not None)


def read_layout(path: Path, fields: Collection[str], *, container: str, codec: str) -> Layout:
    """How a file states some fields. Raises TagError where its tags cannot be read."""
    form, opener = container_row(container).tags, opener_for(container, codec)
    try:
        if form is TagForm.RIFF:
            tags = read_riff_id3(path)
        else:
            assert opener is not None
            tags = opener(path).tags
        return layout_of({} if tags is None else tags, form, fields)
    except (mutagen.MutagenError, ValueError, OverflowError, LookupError, OSError, struct.error) as error:
        raise TagError(f"The tags of {path.name} cannot be read: {error}.") from error


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
            _edit_id3(file.tags, form, change)
            file.save(**_version_of(file.tags))
            if form is TagForm.AIFF:
                write_aiff_text(path, _all_tags(path, container, codec, change))
            elif container == "mp3":
                _edit_ape_behind(path, change)
            return ()
        _take_out(file, form, change)
        stated = _put_back(file.tags, form, change)
        fields = {name: values for name, values in change.set_fields.items() if name not in stated}
        lost = add(file, TagSet(fields=fields, covers=change.covers or ()))
        file.save()
        return tuple(lost)
    except (mutagen.MutagenError, ValueError, OverflowError, LookupError, OSError, struct.error) as error:
        raise tags_not_written(path, error) from error


def _put_back(tags: Any, form: TagForm, change: TagChange) -> set[str]:
    """The fields that stand as they stood before. A layout of another form is of another file's state, and is left."""
    if change.layout is None or change.layout.form is not form:
        return set()
    return put_back(tags, change.layout, fields=change.fields.keys())


def _version_of(tags: mutagen.id3.ID3Tags) -> dict[str, int]:
    """Tags stay of the version they are of, since programs that read 2.3 may not read 2.4; what is older becomes 2.3."""
    known = getattr(tags, "version", (2, 4, 0))
    if known >= (2, 4, 0):
        return {"v2_version": 4}
    tags.update_to_v23()
    return {"v2_version": 3}


def _edit_id3(tags: Any, form: TagForm, change: TagChange) -> None:
    languages = read_id3(tags).languages
    for key, frame in list(tags.items()):
        if frame.FrameID == "APIC":
            if change.covers is not None:
                del tags[key]
            continue
        if hasattr(frame, "people"):
            frame.people = [pair for pair in frame.people if not fields_of_people([pair]) & set(change.fields)]
            if not frame.people:
                del tags[key]
        elif fields_of_frame(frame) & set(change.fields):
            del tags[key]
    stated = _put_back(tags, form, change)
    fields = {name: values for name, values in change.set_fields.items() if name not in stated}
    added = TagSet(fields=fields, covers=change.covers or (), languages=languages)
    for frame in id3_frames(added).values():
        there = tags.get(frame.HashKey) if hasattr(frame, "people") else None
        if there is not None:
            there.people += frame.people
        else:
            tags.add(frame)


def _take_out(file: Any, form: TagForm, change: TagChange) -> None:
    """Keys of changed fields in whatever spelling, and the pictures where these change."""
    for key in {key for key, *_ in file.tags} if form in (TagForm.VORBIS, TagForm.ASF) else set(file.tags):
        if (is_cover(form, key) and change.covers is not None) or states(form, key, change.fields):
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
        if states(TagForm.APE, key, change.fields) or (is_cover(TagForm.APE, key) and change.covers is not None):
            del tags[key]
    tags.save(path)


def _edit_riff(path: Path, change: TagChange) -> tuple[str, ...]:
    after = _all_tags(path, "wav", "pcm", change)
    frames = read_riff_id3(path)
    if frames is None:
        # The list alone had the tags so far: all that it says goes into frames too.
        frames = id3_frames(after)
    else:
        _edit_id3(frames, TagForm.RIFF, change)
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
