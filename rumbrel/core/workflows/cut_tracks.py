"""How one file falls into tracks: by a cue sheet beside or inside it, by its table of contents, by its chapters, or
into its several sounds."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import mutagen
from mutagen.flac import FLAC

from rumbrel.core.disc.cue_sheet import CueFile, CueSheet, CueTrack, parse_cue_sheet, read_cue_file
from rumbrel.core.errors import DecodeError, RumbrelError
from rumbrel.core.forecast import Source
from rumbrel.core.inspection import Facts
from rumbrel.core.inspection.stretches import Part, cut_out

__all__ = [
    "EACH_SOUND",
    "Cutting",
    "Described",
    "Parted",
    "cuttings_of",
    "described_discs",
    "part_name",
    "parted",
    "parts_of_sheet",
]

EACH_SOUND = "sounds"
"""The key of the cutting into each of a file's sounds."""

_SECTORS_A_SECOND = 75
_MOST_SHEETS = 50
_LEAD_OUT = 170
"""The number of the lead-out in a FLAC cue sheet of a disc (RFC 9639, 8.7)."""
_OF_THE_FILE_ALONE = frozenset({"title", "track", "isrc", "cuesheet", "track_gain", "track_peak"})
"""Fields of a file that are not those of its parts."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Cutting:
    """A way to cut a file into tracks: what says so, and the parts in order. error says why it cannot be used."""

    key: str
    said_by: str
    parts: tuple[Part, ...] = ()
    error: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Described:
    """A disc that a cue sheet beside a file, or inside it (sheet_path is None then), describes, with the file among
    those that it names."""

    key: str
    said_by: str
    sheet: CueSheet
    sheet_path: Path | None = None

    def is_of(self, file: CueFile, path: Path) -> bool:
        """Whether the sheet means that file by this one of its own."""
        return self.sheet_path is None or _names(file.name, path)


def described_discs(facts: Facts) -> list[Described]:
    """The discs that a whole file of sound is a part of, by the sheets beside it and the one inside it."""
    if facts.is_part or not facts.usable:
        return []
    path = Path(facts.path)
    found = [
        Described(key=f"sheet {place.name}", said_by=f"the cue sheet {place.name}", sheet=sheet, sheet_path=place)
        for place, sheet in _sheets_beside(path)
        if isinstance(sheet, CueSheet) and any(_names(track.file.name, path) for track in sheet.tracks)
    ]
    own = _own_sheet(facts)
    if isinstance(own, CueSheet) and len(own.files) == 1:
        found.append(Described(key="own sheet", said_by="the cue sheet in its tags", sheet=own))
    return found


def cuttings_of(facts: Facts) -> list[Cutting]:
    """Every way in which a whole file falls into several tracks; those that cannot be used come with the reason."""
    if facts.is_part or not facts.usable:
        return []
    return [*_by_sheets(facts), *_by_own_sheet(facts), *_by_contents(facts), *_by_chapters(facts), *_by_sounds(facts)]


def part_name(facts: Facts, title: str) -> str:
    """What a file of a part is called, without its ending: by its number and title."""
    number, title = facts.tags.first("track").partition("/")[0], title.replace("/", "-").replace("\0", "")
    return f"{int(number):02d} {title}" if number.isascii() and number.isdecimal() else title


def _cutting(key: str, said_by: str, facts: Facts, parts: Sequence[Part]) -> Iterator[Cutting]:
    """The cutting, if it cuts at all; each part has to lie in the file."""
    if len(parts) < 2:
        return
    try:
        for part in parts:
            cut_out(facts, part)
    except DecodeError as error:
        yield Cutting(key=key, said_by=said_by, error=str(error))
        return
    yield Cutting(key=key, said_by=said_by, parts=tuple(parts))


def _sheets_beside(path: Path) -> Iterator[tuple[Path, CueSheet | RumbrelError]]:
    """Each sheet in a file's folder, or why it cannot be read."""
    try:
        home = path.resolve().parent
        named = sorted(other for other in path.parent.iterdir() if other.suffix.lower() == ".cue")
        # A link must not lead elsewhere, and a pipe would keep its reader for ever.
        beside = [
            other for other in named if other.is_file() and other.resolve().parent in (home, path.parent.resolve())
        ]
    except (OSError, RuntimeError):
        return
    for place in beside[:_MOST_SHEETS]:
        try:
            yield place, read_cue_file(place)
        except RumbrelError as error:
            yield place, error


def _by_sheets(facts: Facts) -> Iterator[Cutting]:
    path = Path(facts.path)
    for place, sheet in _sheets_beside(path):
        said_by, key = f"the cue sheet {place.name}", f"sheet {place.name}"
        if isinstance(sheet, RumbrelError):
            if place.stem == path.stem:
                yield Cutting(key=key, said_by=said_by, error=str(sheet))
            continue
        tracks = [track for track in sheet.tracks if _names(track.file.name, path)]
        yield from _cutting(key, said_by, facts, parts_of_sheet(sheet, tracks, facts))


def _names(written: str, path: Path) -> bool:
    """Whether a sheet means a file: it is often written before the file was coded in another format."""
    name = Path(written).name
    return name.casefold() == path.name.casefold() or Path(name).stem.casefold() == path.stem.casefold()


def _own_sheet(facts: Facts) -> CueSheet | RumbrelError | None:
    """The sheet in a file's tags, why it cannot be read, or None for no sheet."""
    # Tags of no common name keep the letters that they were written with.
    texts = [values[0] for name, values in facts.tags.fields.items() if name.casefold() == "cuesheet" and values]
    try:
        return parse_cue_sheet(texts[0]) if texts else None
    except RumbrelError as error:
        return error


def _by_own_sheet(facts: Facts) -> Iterator[Cutting]:
    sheet, said_by = _own_sheet(facts), "the cue sheet in its tags"
    if isinstance(sheet, RumbrelError):
        yield Cutting(key="own sheet", said_by=said_by, error=str(sheet))
    elif sheet is not None:
        yield from _cutting("own sheet", said_by, facts, parts_of_sheet(sheet, sheet.tracks, facts))


def parts_of_sheet(sheet: CueSheet, tracks: Sequence[CueTrack], facts: Facts) -> list[Part]:
    """From INDEX 01 to INDEX 01: what a sheet calls the gap stays with the track before it, as is common practice."""
    starts = [round(track.start_sector * facts.sample_rate / _SECTORS_A_SECOND) for track in tracks]
    parts = []
    for track, (start, end) in zip(tracks, pairwise([*starts, facts.samples]), strict=True):
        named = {
            "title": track.title or f"Track {track.number}", "artist": track.performer or sheet.performer,
            "album": sheet.title, "album_artist": sheet.performer, "songwriter": track.songwriter, "isrc": track.isrc,
            "track": f"{track.number}/{len(sheet.tracks)}",
        }  # fmt: skip
        parts.append(_part(start, end, facts, named))
    return parts


def _part(start: int, end: int, facts: Facts, named: Mapping[str, str]) -> Part:
    kept = {name: values for name, values in facts.tags.fields.items() if name.casefold() not in _OF_THE_FILE_ALONE}
    return Part(
        start_sample=start, end_sample=end, fields=kept | {name: (text,) for name, text in named.items() if text}
    )


def _by_contents(facts: Facts) -> Iterator[Cutting]:
    """FLAC's own block of a disc's table of contents, which has no names (RFC 9639, 8.7)."""
    if facts.container != "flac":
        return
    try:
        reader: Any = FLAC
        sheet = reader(facts.path).cuesheet
    except (mutagen.MutagenError, OSError):
        return
    tracks = [each for each in (sheet.tracks if sheet else ()) if each.track_number != _LEAD_OUT and each.type == 0]
    starts = [
        each.start_offset + next((i.index_offset for i in each.indexes if i.index_number == 1), 0) for each in tracks
    ]
    parts = [
        _part(start, end, facts, {
            "title": f"Track {each.track_number}", "track": f"{each.track_number}/{len(tracks)}",
            "isrc": each.isrc.decode("ascii", "replace").strip("\0 "),
        })
        for each, (start, end) in zip(tracks, pairwise([*starts, facts.samples]), strict=True)
    ]  # fmt: skip
    yield from _cutting("contents", "the table of contents in it", facts, parts)


def _by_chapters(facts: Facts) -> Iterator[Cutting]:
    """Where a chapter's end is not stated, it lasts until the next one begins."""
    chapters, parts = facts.tags.chapters, []
    behind = [*(chapter.start_seconds for chapter in chapters[1:]), facts.duration_seconds]
    for number, (chapter, next_start) in enumerate(zip(chapters, behind, strict=False), 1):
        ends = chapter.end_seconds if chapter.end_seconds > chapter.start_seconds else next_start
        start, end = (min(facts.samples, round(at * facts.sample_rate)) for at in (chapter.start_seconds, ends))
        named = {
            "title": chapter.title or f"Chapter {number}", "track": f"{number}/{len(chapters)}",
            "album": facts.tags.first("album") or facts.tags.first("title"),
        }  # fmt: skip
        parts.append(_part(start, end, facts, named))
    yield from _cutting("chapters", "its chapters", facts, parts)


def _by_sounds(facts: Facts) -> Iterator[Cutting]:
    """Each of several sounds, called by its own title, its language or its number."""
    own = [stream.title or stream.language or f"sound {stream.index + 1}" for stream in facts.streams]
    whole = facts.tags.first("title") or Path(facts.path).stem
    parts = []
    for stream, name in zip(facts.streams, own, strict=True):
        label = name if own.count(name) == 1 else f"{name} {stream.index + 1}"
        named = {"title": f"{whole}, {label}", "language": stream.language}
        fields = _part(0, 0, facts, named).fields
        parts.append(Part(fields=fields, sound=stream.index))
    if len(parts) > 1:
        yield Cutting(key=EACH_SOUND, said_by="each of its sounds", parts=tuple(parts))


@dataclass(frozen=True, slots=True, kw_only=True)
class Parted:
    """Sources with the parts of those that fall into several in their place, and the facts of the parts by their keys.
    ids are those of the parts by the id of their file, troubles why some could not be cut."""

    sources: tuple[Source, ...]
    facts: Mapping[Path, Facts]
    ids: Mapping[int, tuple[int, ...]]
    troubles: tuple[str, ...]


def parted(sources: Sequence[Source], inspect: Callable[[Path], Facts], *, cuts: bool, sounds: bool) -> Parted:
    """Cut each source into its tracks, by the first way that says how, or into each of its sounds."""
    found: list[Source] = []
    facts: dict[Path, Facts] = {}
    ids: dict[int, tuple[int, ...]] = {}
    troubles: list[str] = []
    next_id = max((source.id for source in sources), default=0) + 1
    for source in sources:
        whole = inspect(source.path)
        ways = [way for way in cuttings_of(whole) if (sounds if way.key == EACH_SOUND else cuts)]
        troubles += [f"{source.path} cannot be cut by {way.said_by}: {way.error}" for way in ways if way.error]
        way = next((way for way in ways if not way.error), None)
        parts = [] if way is None else [cut_out(whole, part) for part in way.parts]
        for number, part in enumerate(parts):
            name = part_name(part, part.tags.first("title")) + source.path.suffix
            cut = replace(source, id=next_id + number, part=part.part, relative=source.relative.with_name(name))
            facts[cut.key] = part
            found.append(cut)
        ids[source.id] = tuple(range(next_id, next_id + len(parts))) or (source.id,)
        next_id += len(parts)
        found += [] if parts else [source]
    return Parted(sources=tuple(found), facts=facts, ids=ids, troubles=tuple(troubles))
