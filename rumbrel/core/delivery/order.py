"""The order in which a player comes to what a delivery leaves on a volume: foreseen, made, and read again.

A player that follows the entries of a folder plays in the order in which they were written, its files first and then its
folders (common practice). Entries are moved, never rewritten: those that stand wrong leave the folder and come back one
after the other, each a rename. What is cut off in between lies in a folder beside, by its own name, and plays from there.
"""

import os
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from rumbrel.core.errors import OutputError
from rumbrel.core.files import output_errors
from rumbrel.core.places import Volume, VolumeEntry, entries_as_written

from .player_view import ASIDE, by_names

__all__ = ["ASIDE", "Ordered", "OrderForeseen", "bring_back", "foresee_order", "home_of", "put_in_order"]


@dataclass(slots=True)
class _Folder:
    """Names of files and folders, each in the order of their entries."""

    files: dict[str, None] = field(default_factory=dict)
    folders: dict[str, "_Folder"] = field(default_factory=dict)

    def at(self, parts: Sequence[str]) -> "_Folder":
        folder = self
        for part in parts:
            folder = folder.folders.setdefault(part, _Folder())
        return folder

    def add(self, path: Path) -> None:
        self.at(path.parts[:-1]).files.setdefault(path.name)

    def remove(self, path: Path) -> None:
        *folders, name = path.parts
        inner = self.at(folders)
        inner.files.pop(name, None)
        if not inner.files and not inner.folders and folders:
            self.at(folders[:-1]).folders.pop(folders[-1], None)

    def walk(self, above: Path = Path()) -> list[Path]:
        inner = [path for name, folder in self.folders.items() for path in folder.walk(above / name)]
        return [above / name for name in self.files] + inner


def _asked(paths: Sequence[Path]) -> dict[Path, tuple[list[str], list[str]]]:
    """(files, folders) of each folder, by the order that is asked for."""
    found: dict[Path, tuple[dict[str, None], dict[str, None]]] = {}
    for path in paths:
        files, _ = found.setdefault(path.parent, ({}, {}))
        files.setdefault(path.name)
        while path.parent != Path():
            path = path.parent
            _, folders = found.setdefault(path.parent, ({}, {}))
            folders.setdefault(path.name)
    return {folder: (list(files), list(folders)) for folder, (files, folders) in found.items()}


def _to_move(there: Sequence[str], asked: Sequence[str]) -> list[str]:
    """Those asked for that must be written again, behind the others: all from the first on that stands wrong."""
    places = {name: number for number, name in enumerate(there)}
    asked = [name for name in asked if name in places]
    for number, (one, other) in enumerate(zip(asked, asked[1:], strict=False), 1):
        if places[one] > places[other]:
            return asked[number:]
    return []


@dataclass(frozen=True, slots=True, kw_only=True)
class OrderForeseen:
    """How a volume plays once a delivery is done: order are its sound files as the player comes to them, moved how many
    entries change their places for that, as_asked whether the delivery's tracks follow each other as asked, and first_wrong the
    first that comes too early or too late where they do not."""

    order: tuple[Path, ...]
    moved: int = 0
    as_asked: bool = True
    first_wrong: Path | None = None

    @property
    def numbers(self) -> dict[Path, int]:
        """The how-manieth each is played."""
        return {path: number for number, path in enumerate(self.order, 1)}


def foresee_order(
    entries: Sequence[VolumeEntry],
    asked: Sequence[Path],
    *,
    by_name: bool,
    new: Sequence[Path] = (),
    gone: Collection[Path] = (),
    counts: Callable[[Path], bool] = lambda path: True,
) -> OrderForeseen:
    """What a delivery comes to: entries are what is there as list_volume gives them, asked the delivery's tracks in their
    order, new those it writes, gone what it removes. counts tells what the player lists. Paths are those on the volume."""
    there = _Folder()
    for entry in entries:
        if home_of(entry.relative) not in gone:
            there.add(home_of(entry.relative))
    for path in new:
        there.remove(path)
        there.add(path)
    moved = 0 if by_name else _ordered(there, asked)
    walked = sorted(there.walk(), key=by_names) if by_name else there.walk()
    order = tuple(path for path in walked if counts(path))
    places = {path: number for number, path in enumerate(order)}
    wanted = [path for path in dict.fromkeys(asked) if path in places]
    wrong = next((b for a, b in zip(wanted, wanted[1:], strict=False) if places[a] > places[b]), None)
    return OrderForeseen(order=order, moved=moved, as_asked=wrong is None, first_wrong=wrong)


def _ordered(root: _Folder, asked: Sequence[Path]) -> int:
    moved = 0
    for folder, (files, folders) in _asked(asked).items():
        inner = root.at(folder.parts)
        late = _to_move(list(inner.files), files)
        for name in late:
            inner.files[name] = inner.files.pop(name)
        behind = _to_move(list(inner.folders), folders)
        for name in behind:
            inner.folders[name] = inner.folders.pop(name)
        moved += len(late) + len(behind)
    return moved


def home_of(path: Path) -> Path:
    """Where an entry belongs that waits for its turn."""
    return Path(*(part for part in path.parts if part != ASIDE))


@dataclass(frozen=True, slots=True, kw_only=True)
class Ordered:
    """What came of putting in order: how many entries were moved, and whether the folders, read again, have them as asked.
    error says what to do where not."""

    moved: int
    error: str = ""

    @property
    def ok(self) -> bool:
        return not self.error

    @property
    def sentence(self) -> str:
        return self.error or f"order: {self.moved} moved, read again and as asked"

    def as_record(self) -> dict[str, Any]:
        return {"action": "order", "ok": self.ok, "moved": self.moved, "error": self.error or None}


def bring_back(volume: Volume) -> int:
    """Put what a cut-off left aside back into its folder; returns how many entries. Raises OutputError."""
    found = 0
    for folder in sorted(volume.root.rglob(ASIDE), reverse=True):
        if folder.is_dir() and not folder.is_symlink():
            with output_errors(folder):
                names = _names(folder, volume)
                for name in names:
                    os.rename(folder / name, folder.parent / name)
                folder.rmdir()
            found += len(names)
    return found


def put_in_order(volume: Volume, asked: Sequence[Path], *, tell: Callable[[int], None] = lambda moved: None) -> Ordered:
    """Move entries until the volume's folders have the asked files (paths on the volume) in that order, as far as they are
    there; then read the folders again. tell hears of the work, and may raise to end it: then everything is back in its
    folder. Raises OutputError where the volume does not let it."""
    moved = 0
    # From the innermost folders outwards: a stand-in's folder takes a new place when something in it does.
    wanted = _asked(asked)
    with output_errors(volume.root):
        for folder in sorted(wanted, key=lambda each: -len(each.parts)):
            files, folders = wanted[folder]
            for names in (files, folders):
                moved += _folder_in_order(volume, volume.root / folder, names, tell)
        return Ordered(moved=moved, error=_wrong(volume, wanted))


def _wrong(volume: Volume, wanted: Mapping[Path, tuple[list[str], list[str]]]) -> str:
    for folder, both in wanted.items():
        names = _names(volume.root / folder, volume)
        if any(_to_move(names, asked) for asked in both):
            where = "the volume itself" if folder == Path() else folder.as_posix()
            return (
                f"The entries of {where} are not in the order that was asked for: gaps among them were filled first. Deliver "
                "with numbered names, or remove what else lies there."
            )
    return ""


def _names(folder: Path, volume: Volume) -> list[str]:
    return [entry.name for entry in entries_as_written(folder, volume)]


def _folder_in_order(volume: Volume, folder: Path, asked: Sequence[str], tell: Callable[[int], None]) -> int:
    """Twice where the first time entries fell into gaps between others: then all of them are moved."""
    there = _names(folder, volume) if folder.is_dir() else []
    late = _to_move(there, asked)
    if not late:
        return 0
    _move(volume, folder, late, tell)
    if again := _to_move(_names(folder, volume), asked):
        late = [name for name in asked if name in there]
        _move(volume, folder, late, tell)
        return len(late) + len(again)
    return len(late)


def _move(volume: Volume, folder: Path, names: Sequence[str], tell: Callable[[int], None]) -> None:
    aside = folder / ASIDE
    with output_errors(folder):
        aside.mkdir(exist_ok=True)
        try:
            for number, name in enumerate(names):
                tell(number)
                os.rename(folder / name, aside / name)
            before = 0
            for number, name in enumerate(names):
                tell(number)
                os.rename(aside / name, folder / name)
                before = _later(folder / name, before) if volume.is_stand_in else 0
        finally:
            for left in aside.iterdir() if aside.is_dir() else ():
                os.rename(left, folder / left.name)
            aside.rmdir()
        _flush(folder)
    if not volume.is_there:
        raise OutputError(f"{volume.root} was taken out while its tracks were put in order.")


_TICK_SECONDS = 0.001


def _later(path: Path, before_ns: int) -> int:
    """A stand-in's order is that of its change times, which are only as fine as the system's clock: until this one's is
    later than the last's it is set again. Returns it."""
    while (changed := os.lstat(path).st_ctime_ns) <= before_ns:
        time.sleep(_TICK_SECONDS)
        os.chmod(path, os.lstat(path).st_mode & 0o7777)
    return changed


def _flush(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
