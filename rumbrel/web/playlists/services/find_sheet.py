"""The cue sheet whose disc a list is."""

from dataclasses import dataclass
from pathlib import Path

from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import described_for

from ..models import Playlist

__all__ = ["SheetOfList", "sheet_of"]

_MOST_TRACKS = 99


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetOfList:
    """A sheet is found by a file that it names and its key there."""

    track_id: int
    key: str
    said_by: str


def sheet_of(playlist: Playlist) -> SheetOfList | None:
    """The sheet beside, or in, the files of a list that has a track for each entry, and names those files; None where
    there is none."""
    if not 1 <= playlist.count <= _MOST_TRACKS:
        return None
    entries = playlist.entries.select_related("track__cut_of").order_by("position")
    wholes = [entry.track.cut_of or entry.track for entry in entries]
    first = wholes[0]
    facts = facts_by_id([first.pk]).get(first.pk)
    for found in described_for(first, facts) if facts else ():
        tracks = found.sheet.tracks
        if len(tracks) == len(wholes) and all(
            found.is_of(track.file, Path(whole.path)) for track, whole in zip(tracks, wholes, strict=True)
        ):
            return SheetOfList(track_id=int(first.pk), key=found.key, said_by=found.said_by)
    return None
