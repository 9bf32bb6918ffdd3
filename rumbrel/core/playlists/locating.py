"""From the places a list names to files on this machine."""

import os
import re
from collections.abc import Iterable
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from urllib.parse import unquote, urlsplit

from .model import ListEntry, is_file

__all__ = ["Surroundings", "located", "settled"]

_MOST_FILES = 50_000
_DRIVE = re.compile(r"^[A-Za-z]:[\\/]")


def _plain(written: str) -> str:
    """A path: file addresses are decoded, other addresses stay as they are."""
    if written.lower().startswith("file:"):
        return unquote(urlsplit(written).path)
    return written


def located(written: str, folder: Path) -> Path:
    """Relative places count from the list; separators of other systems are taken where that finds a file."""
    text = _plain(written)
    candidates = [folder / text]
    if "\\" in text:
        candidates.append(folder / text.replace("\\", "/"))
    if _DRIVE.match(text):
        candidates.append(Path("/", text[2:].replace("\\", "/").lstrip("/")))
        candidates.append(folder / text[3:].replace("\\", "/"))
    return next((path for path in candidates if is_file(path)), candidates[1 if "\\" in text else 0])


class Surroundings:
    """The files around a list, walked once and only when an entry is missing."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    @cached_property
    def _by_name(self) -> dict[str, list[Path]]:
        found: dict[str, list[Path]] = {}
        count = 0
        for inner, folders, names in os.walk(self._folder):
            folders.sort()
            for name in sorted(names):
                count += 1
                path = Path(inner, name)
                for key in {name.casefold(), path.stem.casefold()}:
                    found.setdefault(key, []).append(path)
            if count > _MOST_FILES:
                break
        return found

    def find_again(self, entry: ListEntry) -> ListEntry:
        """The entry at the file of its name nearby, the one with most folders in common; else unchanged."""
        name = re.split(r"[\\/]", _plain(entry.written or str(entry.path)))[-1]
        stem = Path(name).stem
        for key in (name.casefold(), stem.casefold()):
            matches = [path for path in self._by_name.get(key, ()) if path.suffix.lower() not in _LISTS]
            if matches:
                wanted = set(re.split(r"[\\/]", entry.written.casefold()))
                best = max(matches, key=lambda path: len(wanted & {part.casefold() for part in path.parts}))
                return replace(entry, path=best, found_again=True)
        return entry


_LISTS = frozenset({".m3u", ".m3u8", ".pls", ".xspf", ".cue"})


def settled(entries: Iterable[ListEntry], folder: Path) -> tuple[ListEntry, ...]:
    """Entries with the missing ones looked for around the list."""
    around = Surroundings(folder)
    return tuple(around.find_again(entry) if not is_file(entry.path) else entry for entry in entries)
