"""Sources of a batch: files as named, folders walked."""

import os
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

__all__ = ["Source", "Walk", "gather_sources", "walk_folder"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A file and where it lies in the mirrored tree. named says that the user named it himself.

    id tells a source from the others of its batch: steps and lists refer to it. part tells a part of the file from
    the others (see Facts.part). name and fields are what the user wants of its result alone: a name without ending,
    "" for the usual one, and tags that stand in place of the source's, where an empty text takes one out; bare leaves its
    pictures out, and cover is the file of a picture that stands in their place.
    """

    id: int
    path: Path
    relative: Path
    named: bool = True
    part: str = ""
    name: str = ""
    fields: tuple[tuple[str, str], ...] = ()
    bare: bool = False
    cover: str = ""

    @property
    def changes_tags(self) -> bool:
        """Whether its result is to have other tags than the source."""
        return bool(self.fields or self.bare or self.cover)

    @property
    def key(self) -> Path:
        """What facts are asked for by."""
        return Path(f"{self.path}{self.part}") if self.part else self.path

    @property
    def stem(self) -> str:
        """What a result is named after."""
        return self.relative.stem if self.part else self.path.stem


def gather_sources(paths: Iterable[Path], *, leave_out: Collection[Path] = ()) -> list[Source]:
    """Files as named, folders walked in order of name, but for those in leave_out. A folder reached again by a
    link is not walked twice."""
    sources: list[Source] = []
    for start in paths:
        found = walk_folder(start, leave_out=leave_out).files if start.is_dir() else [start]
        named = not start.is_dir()
        for path in found:
            relative = Path(start.name) if named else path.relative_to(start)
            sources.append(Source(id=len(sources), path=path, relative=relative, named=named))
    return sources


@dataclass(slots=True)
class Walk:
    """What lies below a folder: its files in order of name, hidden ones left out; the folders that could not
    be read; the links that were not followed, since they lead out of where files may lie; and how many lead to files that
    are there by their own name, and are passed over."""

    files: list[Path] = field(default_factory=list)
    unreadable: list[Path] = field(default_factory=list)
    led_out: list[Path] = field(default_factory=list)
    doubled: int = 0


def walk_folder(start: Path, *, roots: Collection[Path] = (), leave_out: Collection[Path] = ()) -> Walk:
    """Walk a folder, following links; none is walked twice. With roots, which are resolved, no link is followed
    that leads out of them. Folders in leave_out are passed over with all that is below them."""
    walk, seen, links = Walk(), {os.path.realpath(start)}, dict[Path, str]()
    passed_over = {os.path.realpath(path) for path in leave_out}
    waiting = [Path(start)]
    while waiting:
        folder, inner = waiting.pop(), []
        for entry in _entries(folder, walk):
            if roots and entry.is_symlink() and not _lies_below(entry.path, roots):
                walk.led_out.append(Path(entry.path))
            elif _is_folder(entry):
                real = os.path.realpath(entry.path)
                if real not in seen and real not in passed_over:
                    seen.add(real)
                    inner.append(Path(entry.path))
            else:
                walk.files.append(Path(entry.path))
                if entry.is_symlink():
                    links[Path(entry.path)] = os.path.realpath(entry.path)
        waiting.extend(reversed(inner))
    if links:
        _leave_out_doubled(walk, links)
    return walk


def _leave_out_doubled(walk: Walk, links: Mapping[Path, str]) -> None:
    """Of a file and the links to it, the file alone; of several links to a file from elsewhere, the first."""
    own = {os.path.realpath(path.parent / path.name) for path in walk.files if path not in links}
    kept = []
    for path in walk.files:
        real = links.get(path)
        if real is not None and real in own:
            walk.doubled += 1
            continue
        own |= set() if real is None else {real}
        kept.append(path)
    walk.files[:] = kept


def _entries(folder: Path, walk: Walk) -> Iterator["os.DirEntry[str]"]:
    try:
        with os.scandir(folder) as entries:
            found = sorted(entries, key=lambda entry: entry.name)
    except OSError:
        walk.unreadable.append(folder)
        return
    yield from (entry for entry in found if not entry.name.startswith("."))


def _is_folder(entry: "os.DirEntry[str]") -> bool:
    try:
        return entry.is_dir()
    except OSError:
        # Inspection says what is wrong with it.
        return False


def _lies_below(path: str, roots: Collection[Path]) -> bool:
    try:
        return any(Path(path).resolve().is_relative_to(root) for root in roots)
    except (OSError, RuntimeError):
        # A link that leads in a circle leads nowhere.
        return False
