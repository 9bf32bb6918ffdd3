"""Playlists among the sources of a batch, and the lists of its results."""

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rumbrel.core.errors import PlaylistError
from rumbrel.core.forecast import Source, WhenPresent, gather_sources
from rumbrel.core.inspection import Facts
from rumbrel.core.places import FileSystem, fitted_name
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry, TrackList, read_list, write_list
from rumbrel.core.targets import Target
from rumbrel.core.targets.model import NO_LISTS

__all__ = ["FoundList", "PlannedList", "gather_with_lists", "WrittenList", "in_folders", "plan_lists", "write_planned"]


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundList:
    """A list and the places of its tracks among the sources.

    relative is the list's place in the mirrored tree; named says that the user named it, and did not
    merely name a folder it lies in. missing are entries that lead to no file, and outside how many
    lead to files that are no sources. problem says why the list cannot be read.
    """

    path: Path
    relative: Path
    places: tuple[int, ...] = ()
    named: bool = True
    missing: tuple[str, ...] = ()
    outside: int = 0
    problem: str = ""

    @property
    def name(self) -> str:
        return self.relative.stem


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedList:
    """A list to be written, and where the results of its tracks will be. kept says that what is there stays."""

    path: Path
    tracks: tuple[Path, ...]
    found: FoundList
    kept: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class WrittenList:
    """What became of a list: how many of its tracks stand in it now; error says why it was not written."""

    planned: PlannedList
    tracks: int = 0
    error: str = ""

    @property
    def ok(self) -> bool:
        found = self.planned.found
        return not self.error and not (found.named and found.missing)

    @property
    def reason(self) -> str:
        found = self.planned.found
        if self.error or self.planned.kept:
            return self.error or "already there"
        left_out = len(found.places) - self.tracks + len(found.missing) + found.outside
        if not self.tracks:
            return "none of its tracks is there"
        return f"{self.tracks} tracks" + (f", {left_out} left out" if left_out else "")

    @property
    def sentence(self) -> str:
        if self.tracks and not self.planned.kept:
            return f"list: {self.planned.found.path} -> {self.planned.path} ({self.reason})"
        return f"skip: {self.planned.found.path} ({self.reason})"

    def as_record(self) -> dict[str, Any]:
        found, written = self.planned.found, self.tracks and not self.planned.kept
        return {
            "source": str(found.path),
            "output": str(self.planned.path) if written else None,
            "action": "list" if written else "skip",
            "ok": self.ok,
            "reason": self.reason,
            "tracks": self.tracks,
            "missing": list(found.missing),
            "outside": found.outside,
            "error": self.error or None,
        }


def gather_with_lists(places: Iterable[Path], *, once: bool) -> tuple[list[Source], list[FoundList]]:
    """Sources in order, and the lists among them.

    A list that is named brings its tracks with it, in its order; one that lies in a folder only says
    how the tracks of that folder are played. once says that a file that stands in several lists, or
    twice in one, or in a list and in a folder behind it, is one source. Raises PlaylistError for a named list that cannot be read.
    """
    sources: list[Source] = []
    known: dict[str, int] = {}
    indexed = 0
    named: list[FoundList] = []
    lying: list[Source] = []

    def index() -> None:
        # Resolving links costs more than the walk, so it waits until a list needs it.
        nonlocal indexed
        known.update((os.path.realpath(source.path), at) for at, source in enumerate(sources[indexed:], indexed))
        indexed = len(sources)

    def place_of(path: Path) -> int:
        index()
        real = os.path.realpath(path)
        if once and real in known:
            return known[real]
        sources.append(Source(path=path, relative=Path(path.name)))
        return len(sources) - 1

    for place in places:
        if place.suffix.lower() in LIST_SUFFIXES and not place.is_dir():
            entries = read_list(place).entries
            missing = tuple(entry.written for entry in entries if entry.missing)
            tracks = tuple(place_of(entry.path.absolute()) for entry in entries)
            named.append(FoundList(path=place, relative=Path(place.name), places=tracks, missing=missing))
            continue
        for source in gather_sources([place]):
            if source.path.suffix.lower() in LIST_SUFFIXES:
                lying.append(source)
                continue
            if once and known and os.path.realpath(source.path) in known:
                continue
            sources.append(source)
    if lying:
        index()
    return sources, named + [_lying_list(source, known) for source in lying]


def _lying_list(source: Source, known: Mapping[str, int]) -> FoundList:
    try:
        entries = read_list(source.path).entries
    except PlaylistError as error:
        return FoundList(path=source.path, relative=source.relative, named=False, problem=str(error))
    there = [known.get(os.path.realpath(entry.path)) for entry in entries if not entry.missing]
    return FoundList(
        path=source.path,
        relative=source.relative,
        places=tuple(number for number in there if number is not None),
        named=False,
        missing=tuple(entry.written for entry in entries if entry.missing),
        outside=there.count(None),
    )


def in_folders(sources: Sequence[Source], lists: Iterable[FoundList]) -> list[Source]:
    """Each track of a named list in its list's folder, numbered, so that any player plays the list in order."""
    placed = list(sources)
    for found in [each for each in lists if each.named]:
        for number, place in enumerate(found.places, 1):
            source = sources[place]
            relative = Path(found.name) / f"{number:03d} {source.path.stem}{source.path.suffix}"
            placed[place] = replace(source, relative=relative)
    return placed


def _list_place(folder: Path, name: str, target: Target, system: FileSystem) -> Path:
    """Where the list of a name goes, in the kind that the target wants."""
    return folder / fitted_name(name, f".{target.playlists.kind}", system)


def plan_lists(
    lists: Sequence[FoundList],
    target: Target,
    folder: Path,
    system: FileSystem,
    outputs: Sequence[str],
    *,
    when_present: WhenPresent = WhenPresent.REPLACE,
    ours: Callable[[Path], bool] = lambda path: False,
) -> tuple[PlannedList, ...]:
    """A list for each, beside the results as it lay beside the sources.

    None for a target that wants none. outputs are the results' places by source, "" where there is
    none. ours tells a list that an
    earlier run wrote and nobody changed since: it is always brought up to date. A list among the
    sources is never written over.
    """
    planned: list[PlannedList] = []
    for found in lists if target.playlists.kind != NO_LISTS else ():
        tracks = tuple(Path(outputs[place]) for place in found.places if outputs[place])
        inner = folder / found.relative.parent
        place, number = _list_place(inner, found.name, target, system), 2
        taken = {plan.path for plan in planned}

        def in_the_way(place: Path, taken: set[Path] = taken) -> bool:
            numbered = when_present is WhenPresent.NUMBER and place.exists()
            return numbered or place in taken or any(_is_same(place, each.path) for each in lists)

        while in_the_way(place):
            place = _list_place(inner, f"{found.name} ({number})", target, system)
            number += 1
        kept = when_present is WhenPresent.SKIP and place.exists() and not ours(place)
        planned.append(PlannedList(path=place, tracks=tracks, found=found, kept=kept))
    return tuple(planned)


def _is_same(place: Path, other: Path) -> bool:
    return place.exists() and other.exists() and place.samefile(other)


def write_planned(planned: PlannedList, there: Mapping[Path, Facts]) -> WrittenList:
    """Write one list with relative places of the tracks that are there.

    A list of none, and one whose place is kept, is not written.
    """
    entries = tuple(
        ListEntry(
            path=place, title=there[place].tags.first("title") or place.stem,
            performer=there[place].tags.first("artist"),
            seconds=there[place].duration_seconds or None,
        )
        for place in planned.tracks
        if place in there
    )  # fmt: skip
    if planned.found.problem or planned.kept or not entries:
        return WrittenList(planned=planned, error=planned.found.problem)
    try:
        write_list(TrackList(entries=entries, title=planned.path.stem), planned.path)
    except PlaylistError as error:
        return WrittenList(planned=planned, error=str(error))
    return WrittenList(planned=planned, tracks=len(entries))
