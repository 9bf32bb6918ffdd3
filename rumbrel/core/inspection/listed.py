"""Lists whose missing entries are looked for nearby, and believed only as far as the sound bears them out."""

from collections.abc import Callable
from pathlib import Path

from rumbrel.core.playlists import ListEntry, TrackList, read_list

from .facts import Facts
from .inspect import inspect_file

__all__ = ["entry_agrees", "read_confirmed_list"]

_LENGTH_SLACK_SECONDS = 2.0
"""Lists state whole seconds, and formats add some silence."""


def read_confirmed_list(path: Path, *, inspect: Callable[[Path], Facts] = inspect_file) -> TrackList:
    """Entries in order. Raises PlaylistError when the list cannot be read."""
    return read_list(path, agrees=lambda file, entry: entry_agrees(inspect(file), entry))


def entry_agrees(facts: Facts, entry: ListEntry) -> bool | None:
    """Whether a file is what an entry describes, by length and title; None where these tell nothing."""
    if not facts.usable:
        return False
    if entry.seconds and entry.seconds > 0 and abs(facts.duration_seconds - entry.seconds) > _LENGTH_SLACK_SECONDS:
        return False
    title = facts.tags.first("title")
    if entry.title and title:
        # Many lists write performer and title into one field.
        return title.casefold() in entry.title.casefold()
    return True if entry.seconds and entry.seconds > 0 else None
