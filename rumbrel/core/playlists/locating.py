"""From the places a list names to files on this machine."""

import os
import re
from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from urllib.parse import unquote, urlsplit

from rumbrel.core.formats.table import SOUND_SUFFIXES

from .model import ListEntry, is_file

__all__ = ["Agrees", "Surroundings", "located", "settled"]

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


Agrees = Callable[[Path, ListEntry], bool | None]
"""Whether a file is what an entry describes, by its length and tags; None where these tell nothing."""


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

    def find_again(self, entry: ListEntry, agrees: Agrees) -> ListEntry:
        """The entry at a sound file of its name nearby; else unchanged.

        A name alone proves nothing. Without contradiction it is believed in a folder named as the list says, or
        where the list names no folder and there is one such file; elsewhere only what the sound itself bears out.
        """
        parts = [part for part in re.split(r"[\\/]", _plain(entry.written or str(entry.path))) if part]
        name = parts[-1] if parts else ""
        folder = parts[-2].casefold() if len(parts) > 1 and not parts[-2].endswith(":") else ""
        for key in (name.casefold(), Path(name).stem.casefold()):
            matches = [path for path in self._by_name.get(key, ()) if path.suffix.lower() in SOUND_SUFFIXES]
            near = [path for path in matches if path.parent.name.casefold() == folder] if folder else matches
            for path in sorted(matches, key=lambda path: path not in near):
                said = agrees(path, entry)
                if said or (said is None and path in near and len(near) == 1):
                    return replace(entry, path=path, found_again=True)
        return entry


def _tells_nothing(path: Path, entry: ListEntry) -> None:
    return None


def settled(entries: Iterable[ListEntry], folder: Path, agrees: Agrees | None = None) -> tuple[ListEntry, ...]:
    """Entries with the missing ones looked for around the list."""
    around = Surroundings(folder)
    asked = agrees or _tells_nothing
    return tuple(
        entry if is_file(entry.path) or entry.is_elsewhere else around.find_again(entry, asked) for entry in entries
    )
