"""How a file writes some of its fields: not only what they say, but under which keys, in which order and in how many parts.

A track number may be '16/12' in one field or two fields of a number each, a name may be spelt in capitals or not, and one
value may stand twice. Values alone do not bring that back, so it is kept before an edit and put back as it was.
"""

import base64
import binascii
import io
import json
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import mutagen.apev2
import mutagen.id3
import mutagen.mp4
from mutagen.asf._attrs import ASFByteArrayAttribute, ASFValue

from rumbrel.core.errors import TagError
from rumbrel.core.files import write_whole
from rumbrel.core.formats.table import TagForm

from .id3_frames import read_id3
from .mapping import PAIRS
from .opus_gains import FROM_R128
from .reading import field_of_key

__all__ = [
    "Layout",
    "fields_of_frame",
    "fields_of_people",
    "is_cover",
    "keep_layout",
    "kept_layout",
    "layout_of",
    "put_back",
    "states",
]

Pairs = list[tuple[str, Any]]

_COVER_KEYS = {
    TagForm.VORBIS: ("metadata_block_picture", "coverart"),
    TagForm.MP4: ("covr",),
    TagForm.APE: ("cover art (front)", "cover art (back)"),
    TagForm.ASF: ("wm/picture",),
}
_TOTALS = {"track": ("tracktotal", "totaltracks"), "disc": ("disctotal", "totaldiscs")}
_LISTS = (TagForm.VORBIS, TagForm.ASF)
"""Forms whose tags are a list of pairs, in which a key may stand more than once."""
_FRAMES = (TagForm.ID3, TagForm.AIFF, TagForm.RIFF)


@dataclass(frozen=True, slots=True, kw_only=True)
class Layout:
    """What states some fields in a file, in the terms of its tag format. pairs are (key, value as JSON), all that there
    were but pictures; for frames (ID3) those that state one of the fields."""

    form: TagForm
    fields: frozenset[str]
    pairs: tuple[tuple[str, Any], ...]


def is_cover(form: TagForm, key: str) -> bool:
    """Whether a key of a tag format holds a picture."""
    return key.lower() in _COVER_KEYS.get(form, ())


def states(form: TagForm, key: str, fields: Collection[str]) -> bool:
    """Whether a key of a tag format states one of some fields, in whatever spelling, or how many there are of it."""
    totals = (total for name in PAIRS if name in fields for total in _TOTALS[name])
    return field_of_key(form, key) in fields or key.lower() in totals or FROM_R128.get(key.lower()) in fields


def fields_of_frame(frame: Any) -> set[str]:
    """The fields that an ID3 frame states: by the very map that reads it."""
    alone = mutagen.id3.ID3Tags()
    alone.add(frame)
    return set(read_id3(alone).fields)


def fields_of_people(pairs: list[list[str]]) -> set[str]:
    """The fields that pairs of what somebody did and who it was state."""
    return fields_of_frame(mutagen.id3.TIPL(encoding=3, people=pairs))


def layout_of(tags: Any, form: TagForm, fields: Collection[str]) -> Layout:
    """The layout of some fields in opened tags."""
    if form in _FRAMES:
        frames = mutagen.id3.ID3()
        for frame in tags.values():
            if fields_of_frame(frame) & set(fields):
                frames.add(frame)
        held = io.BytesIO()
        if frames:
            frames.save(held, v2_version=4, v1=0)
        pairs: Pairs = [("frames", base64.b64encode(held.getvalue()).decode())] if frames else []
    else:
        told = _TOLD[form][0]
        pairs = [(key, told(value)) for key, value in _pairs_in(tags, form) if not is_cover(form, key)]
    return Layout(form=form, fields=frozenset(fields), pairs=tuple(pairs))


def put_back(tags: Any, layout: Layout, *, fields: Collection[str]) -> set[str]:
    """State fields in opened tags as they were when the layout was kept; what stated them since must be gone. Where all
    else is as it was, so is the order. Returns the fields that are stated so."""
    if layout.form in _FRAMES:
        stated: set[str] = set()
        for _, coded in layout.pairs:
            for frame in mutagen.id3.ID3(io.BytesIO(base64.b64decode(coded))).values():
                stated |= fields_of_frame(frame)
                if hasattr(frame, "people"):
                    frame.people = _people(tags.get(frame.HashKey), frame.people, fields)
                tags.add(frame)
        return stated
    told, meant = _TOLD[layout.form]
    now = [(key, told(value)) for key, value in _pairs_in(tags, layout.form) if not is_cover(layout.form, key)]
    ours = [(key, value) for key, value in layout.pairs if states(layout.form, key, fields)]
    others = [(key, value) for key, value in layout.pairs if not states(layout.form, key, fields)]
    if layout.form in _LISTS:
        pictures = [pair for pair in tags if is_cover(layout.form, pair[0])]
        kept = list(layout.pairs) if now == others else now + ours
        tags[:] = [(key, meant(value)) for key, value in kept] + pictures
    else:
        for key, value in ours:
            tags[key] = meant(value)
    return {name for name in fields for key, _ in ours if states(layout.form, key, (name,))}


def _pairs_in(tags: Any, form: TagForm) -> Iterator[tuple[str, Any]]:
    yield from (tags if form in _LISTS else tags.items())


def _people(there: Any, kept: list[list[str]], fields: Collection[str]) -> list[list[str]]:
    """A list of people in which those of some fields stand as they were kept."""
    now = there.people if there else []
    ours = [pair for pair in kept if fields_of_people([pair]) & set(fields)]
    return kept if now == [pair for pair in kept if pair not in ours] else now + ours


def _coded(value: bytes) -> dict[str, str]:
    return {"bytes": base64.b64encode(value).decode()}


def _decoded(value: dict[str, str]) -> bytes:
    return base64.b64decode(value["bytes"])


def _asf_told(value: Any) -> list[Any]:
    plain = _coded(value.value) if isinstance(value.value, bytes) else value.value
    return [value.TYPE, plain, value.language, value.stream]


def _asf_meant(kept: list[Any]) -> Any:
    kind, plain, language, stream = kept
    if kind == ASFByteArrayAttribute.TYPE or isinstance(plain, dict):
        plain = _decoded(plain)
    return ASFValue(plain, kind, language=language, stream=stream)


def _ape_told(value: Any) -> list[Any]:
    return [value.kind, _coded(value.value) if isinstance(value.value, bytes) else value.value]


def _ape_meant(kept: list[Any]) -> Any:
    kind, plain = kept
    return mutagen.apev2.APEValue(_decoded(plain) if isinstance(plain, dict) else plain, kind)


def _mp4_told(values: Any) -> Any:
    if not isinstance(values, list):
        return values
    return [
        {**_coded(value), "format": int(value.dataformat), "version": value.version}
        if isinstance(value, mutagen.mp4.MP4FreeForm)
        else _coded(value) if isinstance(value, bytes) else list(value) if isinstance(value, tuple) else value
        for value in values
    ]  # fmt: skip


def _mp4_meant(kept: Any) -> Any:
    if not isinstance(kept, list):
        return kept
    return [
        mutagen.mp4.MP4FreeForm(_decoded(value), value["format"], value["version"])
        if isinstance(value, dict) and "format" in value
        else _decoded(value) if isinstance(value, dict) else tuple(value) if isinstance(value, list) else value
        for value in kept
    ]  # fmt: skip


_TOLD: dict[TagForm, tuple[Callable[[Any], Any], Callable[[Any], Any]]] = {
    TagForm.VORBIS: (str, str),
    TagForm.ASF: (_asf_told, _asf_meant),
    TagForm.APE: (_ape_told, _ape_meant),
    TagForm.MP4: (_mp4_told, _mp4_meant),
}
"""How a value of a form goes into JSON and comes out of it."""


def keep_layout(path: Path, layout: Layout) -> None:
    """Write it, whole or not at all. Raises OutputError."""
    write_whole(path, json.dumps({"form": layout.form.value, "fields": sorted(layout.fields), "pairs": layout.pairs}))


def kept_layout(path: Path) -> Layout:
    """What was written. Raises TagError where that cannot be read."""
    try:
        record = json.loads(path.read_text())
        return Layout(
            form=TagForm(record["form"]), fields=frozenset(record["fields"]),
            pairs=tuple((key, value) for key, value in record["pairs"]),
        )  # fmt: skip
    except (OSError, ValueError, KeyError, TypeError, binascii.Error) as error:
        raise TagError("How the tags were laid out was kept, but cannot be read, so nothing was written.") from error
