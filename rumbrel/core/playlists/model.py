"""A playlist as a value, whatever format it came from."""

from dataclasses import dataclass
from pathlib import Path

__all__ = ["ListEntry", "TrackList", "is_file"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ListEntry:
    """A line of a list. written is the place as the list states it, path where that is on this machine.

    seconds is None where the list does not say. found_again marks an entry that was not where the
    list says but nearby.
    """

    path: Path
    written: str = ""
    title: str = ""
    performer: str = ""
    album: str = ""
    seconds: float | None = None
    found_again: bool = False

    @property
    def missing(self) -> bool:
        return not is_file(self.path)


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
