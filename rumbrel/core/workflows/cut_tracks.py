"""How one file falls into tracks: by a cue sheet beside or inside it, by its table of contents, or by its chapters."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any

import mutagen
from mutagen.flac import FLAC

from rumbrel.core.disc.cue_sheet import CueSheet, CueTrack, parse_cue_sheet, read_cue_file
from rumbrel.core.errors import DecodeError, RumbrelError
from rumbrel.core.inspection import Facts
from rumbrel.core.inspection.stretches import Part, cut_out

__all__ = ["Cutting", "cuttings_of"]

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


def cuttings_of(facts: Facts) -> list[Cutting]:
    """Every way in which a whole file falls into several tracks; those that cannot be used come with the reason."""
    if facts.stretch is not None or not facts.usable:
        return []
    return [*_by_sheets(facts), *_by_own_sheet(facts), *_by_contents(facts), *_by_chapters(facts)]


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


def _by_sheets(facts: Facts) -> Iterator[Cutting]:
    path = Path(facts.path)
    try:
        home = path.resolve().parent
        named = sorted(other for other in path.parent.iterdir() if other.suffix.lower() == ".cue")
        # A link must not lead elsewhere, and a pipe would keep its reader for ever.
        beside = [
            other for other in named if other.is_file() and other.resolve().parent in (home, path.parent.resolve())
        ]
    except (OSError, RuntimeError):
        return
    for sheet_path in beside[:_MOST_SHEETS]:
        said_by, key = f"the cue sheet {sheet_path.name}", f"sheet {sheet_path.name}"
        try:
            sheet = read_cue_file(sheet_path)
        except RumbrelError as error:
            if sheet_path.stem == path.stem:
                yield Cutting(key=key, said_by=said_by, error=str(error))
            continue
        tracks = [track for track in sheet.tracks if _names(track.file.name, path)]
        yield from _cutting(key, said_by, facts, _parts_of(sheet, tracks, facts))


def _names(written: str, path: Path) -> bool:
    """Whether a sheet means a file: it is often written before the file was coded in another format."""
    name = Path(written).name
    return name.casefold() == path.name.casefold() or Path(name).stem.casefold() == path.stem.casefold()


def _by_own_sheet(facts: Facts) -> Iterator[Cutting]:
    # Tags of no common name keep the letters that they were written with.
    texts = [values[0] for name, values in facts.tags.fields.items() if name.casefold() == "cuesheet" and values]
    if not texts:
        return
    try:
        sheet = parse_cue_sheet(texts[0])
    except RumbrelError as error:
        yield Cutting(key="own sheet", said_by="the cue sheet in its tags", error=str(error))
        return
    yield from _cutting("own sheet", "the cue sheet in its tags", facts, _parts_of(sheet, sheet.tracks, facts))


def _parts_of(sheet: CueSheet, tracks: Sequence[CueTrack], facts: Facts) -> list[Part]:
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
