"""A playlist as a file: with the paths that this server has, or with those that a target's device will have."""

from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from rumbrel.core.errors import PlaylistError
from rumbrel.core.inspection import Facts
from rumbrel.core.playlists import ListEntry, TrackList, write_list
from rumbrel.core.targets import Target
from rumbrel.web.collection.queries import known_tracks
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.queries import listed_ids

from ..wishes import BatchWish
from .forecast_tracks import plan_for

__all__ = ["ExportedList", "export_list"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ExportedList:
    """left_out are titles of what the device cannot get."""

    data: bytes
    entries: int
    left_out: tuple[str, ...]


def export_list(*, playlist: Playlist, target: Target | None, suffix: str) -> ExportedList:
    """The list as a file of that ending. For a target, each entry is the name that a batch gives its result, below
    the folder that the list is put into. Raises PlaylistError when nothing is left of it."""
    ids = listed_ids(playlist.pk)
    tracks = {track.pk: track for track in known_tracks(list(dict.fromkeys(ids)))}
    with TemporaryDirectory(prefix="rumbrel-") as name:
        folder = Path(name)
        paths: dict[int, Path] = {}
        if target is None:
            paths = {pk: Path(track.facts.path) for pk, track in tracks.items() if track.facts and not track.missing}
        else:
            wish = BatchWish(targets=(target,))
            root = wish.folder_of(target)
            for step in plan_for(list(tracks.values()), wish).steps:
                if step.output:
                    paths[step.source_id] = folder / Path(step.output).relative_to(root)
        kept = [pk for pk in ids if pk in paths]
        if not kept:
            raise PlaylistError("No track of this list can be written to such a file. Each track states its reason.")
        entries = tuple(_entry(paths[pk], tracks[pk].title, tracks[pk].facts) for pk in kept)
        out = folder / f"list{suffix}"
        write_list(TrackList(entries=entries, title=playlist.name), out, relative=target is not None)
        data = out.read_bytes()
    left = tuple(tracks[pk].title for pk in dict.fromkeys(ids) if pk in tracks and pk not in paths)
    return ExportedList(data=data, entries=len(kept), left_out=left)


def _entry(path: Path, title: str, facts: Facts | None) -> ListEntry:
    first = facts.tags.first if facts else lambda name: ""
    return ListEntry(
        path=path, title=title, performer=first("artist"), album=first("album"),
        seconds=facts.duration_seconds if facts else None,
    )  # fmt: skip
