"""A playlist as a value, whatever format it came from."""

import re
from dataclasses import dataclass
from pathlib import Path

__all__ = ["ListEntry", "TrackList", "is_file", "lines_of", "one_line"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ListEntry:
    """A line of a list. written is the place as the list states it, path where that is on this machine.

    seconds is None where the list does not say. found_again marks an entry that was not where the
    list says but nearby. more holds what only some formats can say, by its names there.
    """

    path: Path
    written: str = ""
    title: str = ""
    performer: str = ""
    album: str = ""
    seconds: float | None = None
    found_again: bool = False
    more: tuple[tuple[str, str], ...] = ()

    @property
    def missing(self) -> bool:
        return not is_file(self.path)

    @property
    def is_elsewhere(self) -> bool:
        """Whether it is the address of a stream, or leads to another machine: written as it stands, and never looked
        for here."""
        return bool(_ADDRESS.match(self.written)) and self.missing


_ADDRESS = re.compile(r"(?!file:)[a-z][a-z0-9+.-]+://|\\\\[^\\]|//[^/]", re.IGNORECASE)
_LINE_ENDS = re.compile(r"\r\n|\n|\r")


def lines_of(text: str) -> list[str]:
    """Not every sign that Unicode takes for a line's end is one here: names may hold them."""
    return _LINE_ENDS.split(text)


def one_line(text: str) -> str:
    """A text that has to stand in one line."""
    return re.sub(r"[\r\n]+", " ", text).strip()


def is_file(path: Path) -> bool:
    """Whether a file is there; a name too long or with a zero byte is the name of none."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackList:
    """Entries in order, with the list's own title."""

    entries: tuple[ListEntry, ...]
    title: str = ""
    more: tuple[tuple[str, str], ...] = ()
