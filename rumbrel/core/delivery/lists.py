"""Playlists among the sources of a batch, and the lists of its results."""

import os
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rumbrel.core.errors import PlaylistError, RumbrelError
from rumbrel.core.forecast import Source, WhenPresent, gather_sources
from rumbrel.core.inspection import Facts, read_confirmed_list
from rumbrel.core.places import FileSystem, Volume, fitted_name, list_volume
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry, TrackList, read_list, write_list
from rumbrel.core.targets import Target
from rumbrel.core.targets.model import NO_LISTS

__all__ = [
    "FoundList",
    "PlannedList",
    "gather_with_lists",
    "WrittenList",
    "in_folders",
    "plan_lists",
    "relist",
    "write_planned",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundList:
    """A list and its tracks among the sources, by their ids.

    relative is where the list lies in the mirrored tree; named says that the user named it, and did not
    merely name a folder it lies in. missing are entries that lead to no file, found_again what the list
    names and the file nearby that was taken for it, and outside how many lead to files that are no sources. unreadable says why the list cannot be read.
    """

    path: Path
    relative: Path
    source_ids: tuple[int, ...] = ()
    named: bool = True
    missing: tuple[str, ...] = ()
    found_again: tuple[tuple[str, str], ...] = ()
    outside: int = 0
    unreadable: str = ""

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
        left_out = len(found.source_ids) - self.tracks + len(found.missing) + found.outside
        if not self.tracks:
            return "none of its tracks is there"
        tracks = f"{self.tracks} track{'' if self.tracks == 1 else 's'}"
        text = tracks + (f", {left_out} left out" if left_out else "")
        for written, path in found.found_again:
            text += f"; {written} was not there, {path} was taken for it"
        return text

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
            "found_again": [{"written": written, "path": path} for written, path in found.found_again],
            "outside": found.outside,
            "error": self.error or None,
        }


def gather_with_lists(
    named_paths: Iterable[Path], *, once: bool, leave_out: Collection[Path] = ()
) -> tuple[list[Source], list[FoundList]]:
    """Sources in order, and the lists among them.

    A list that is named brings its tracks with it, in its order; one that lies in a folder only says
    how the tracks of that folder are played. once says that a file that stands in several lists, or
    twice in one, or in a list and in a folder behind it, is one source. Folders in leave_out, where results go,
    are passed over. Raises PlaylistError for a named list that cannot be read.
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

    def id_of(path: Path) -> int:
        index()
        real = os.path.realpath(path)
        if once and real in known:
            return known[real]
        sources.append(Source(id=len(sources), path=path, relative=Path(path.name)))
        return len(sources) - 1

    for path in named_paths:
        if path.suffix.lower() in LIST_SUFFIXES and not path.is_dir():
            entries = read_confirmed_list(path).entries
            missing = tuple(entry.written for entry in entries if entry.missing)
            tracks = tuple(id_of(entry.path.absolute()) for entry in entries)
            named.append(
                FoundList(
                    path=path, relative=Path(path.name), source_ids=tracks, missing=missing,
                    found_again=_found_again(entries),
                )
            )  # fmt: skip
            continue
        for source in gather_sources([path], leave_out=leave_out):
            if source.path.suffix.lower() in LIST_SUFFIXES:
                lying.append(source)
                continue
            if once and known and os.path.realpath(source.path) in known:
                continue
            sources.append(replace(source, id=len(sources)))
    if lying:
        index()
    return sources, named + [_lying_list(source, known) for source in lying]


def _found_again(entries: Sequence[ListEntry]) -> tuple[tuple[str, str], ...]:
    return tuple((entry.written, str(entry.path)) for entry in entries if entry.found_again)


def _lying_list(source: Source, known: Mapping[str, int]) -> FoundList:
    try:
        entries = read_confirmed_list(source.path).entries
    except PlaylistError as error:
        return FoundList(path=source.path, relative=source.relative, named=False, unreadable=str(error))
    there = [known.get(os.path.realpath(entry.path)) for entry in entries if not entry.missing]
    return FoundList(
        path=source.path,
        relative=source.relative,
        source_ids=tuple(number for number in there if number is not None),
        named=False,
        missing=tuple(entry.written for entry in entries if entry.missing),
        found_again=_found_again(entries),
        outside=there.count(None),
    )


def in_folders(sources: Sequence[Source], lists: Iterable[FoundList]) -> list[Source]:
    """Each track of a named list in its list's folder, numbered, so that any player plays the list in order."""
    numbered: dict[int, Path] = {}
    for found in [each for each in lists if each.named]:
        numbered.update(
            (source_id, Path(found.name, f"{number:03d}")) for number, source_id in enumerate(found.source_ids, 1)
        )
    return [
        replace(source, relative=numbered[source.id].with_name(f"{numbered[source.id].name} {source.path.name}"))
        if source.id in numbered
        else source
        for source in sources
    ]


def _list_path(folder: Path, name: str, target: Target, system: FileSystem) -> Path:
    """Where the list of a name goes, in the kind that the target wants."""
    return folder / fitted_name(name, f".{target.playlists.kind}", system)


def plan_lists(
    lists: Sequence[FoundList],
    target: Target,
    folder: Path,
    system: FileSystem,
    outputs: Mapping[int, str],
    *,
    when_present: WhenPresent = WhenPresent.REPLACE,
    ours: Callable[[Path], bool] = lambda path: False,
) -> tuple[PlannedList, ...]:
    """A list for each, beside the results as it lay beside the sources.

    None for a target that wants none. outputs are the results by the ids of their sources, "" where
    there is none. ours tells a list that an
    earlier run wrote and nobody changed since: it is always brought up to date. A list among the
    sources is never written over.
    """
    planned: list[PlannedList] = []
    for found in lists if target.playlists.kind != NO_LISTS else ():
        tracks = tuple(Path(outputs[source_id]) for source_id in found.source_ids if outputs.get(source_id))
        inner = folder / found.relative.parent
        path, number = _list_path(inner, found.name, target, system), 2
        taken = {plan.path for plan in planned}

        def in_the_way(path: Path, taken: set[Path] = taken) -> bool:
            numbered = when_present is WhenPresent.NUMBER and path.exists()
            return numbered or path in taken or any(_is_same(path, each.path) for each in lists)

        while in_the_way(path):
            path = _list_path(inner, f"{found.name} ({number})", target, system)
            number += 1
        kept = when_present is WhenPresent.SKIP and path.exists() and not ours(path)
        planned.append(PlannedList(path=path, tracks=tracks, found=found, kept=kept))
    return tuple(planned)


def _is_same(path: Path, other: Path) -> bool:
    return path.exists() and other.exists() and path.samefile(other)


def write_planned(planned: PlannedList, there: Mapping[Path, Facts]) -> WrittenList:
    """Write one list with relative paths of the tracks that are there.

    A list of none, and one that is kept, is not written.
    """
    entries = tuple(
        ListEntry(
            path=path, title=there[path].tags.first("title") or path.stem,
            performer=there[path].tags.first("artist"),
            seconds=there[path].duration_seconds or None,
        )
        for path in planned.tracks
        if path in there
    )  # fmt: skip
    if planned.found.unreadable or planned.kept or not entries:
        return WrittenList(planned=planned, error=planned.found.unreadable)
    try:
        write_list(TrackList(entries=entries, title=planned.path.stem), planned.path)
    except RumbrelError as error:
        return WrittenList(planned=planned, error=str(error))
    return WrittenList(planned=planned, tracks=len(entries))


def relist(volume: Volume, renamed: Mapping[Path, Path]) -> Iterator[WrittenList]:
    """Bring the lists on a volume that name files which were replaced by others up to date; renamed are the new paths
    by the old ones. A list that cannot be read is told."""
    for entry in list_volume(volume) if renamed else ():
        path = volume.root / entry.relative
        if path.suffix.lower() not in LIST_SUFFIXES:
            continue
        planned = PlannedList(path=path, tracks=(), found=FoundList(path=path, relative=entry.relative, named=False))
        try:
            found = read_list(path)
            entries = tuple(
                replace(each, path=renamed[each.path.absolute()]) if each.path.absolute() in renamed else each
                for each in found.entries
            )
            if entries != found.entries:
                write_list(replace(found, entries=entries), path)
                yield WrittenList(planned=planned, tracks=len(entries))
        except RumbrelError as error:
            yield WrittenList(planned=planned, error=str(error))
