"""Import a playlist that was made elsewhere: what of it is in the collection becomes a playlist, and the rest is told."""

from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from django.core.files.uploadedfile import UploadedFile

from rumbrel.core.disc.cue_sheet import read_cue_file
from rumbrel.core.errors import PlaylistError
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry, TrackList, read_list
from rumbrel.core.playlists.matching import Found, KnownSound, Match, match_entries
from rumbrel.web.collection.models import Track

from ..models import Playlist
from .change_list import MOST_ENTRIES
from .make_playlist import make_playlist

__all__ = ["Brought", "bring_list"]

_LARGEST_BYTES = 64 * 1024 * 1024
_MOST_TOLD = 1_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Brought:
    """playlist is None where nothing of the list is here."""

    playlist: Playlist | None
    found: int
    elsewhere: int
    missing: int


def bring_list(*, file: UploadedFile) -> Brought:
    """Read an uploaded list and look for its entries. Raises PlaylistError and DiscError for what is none."""
    name = Path(file.name or "list").name
    if file.size is not None and file.size > _LARGEST_BYTES:
        raise PlaylistError(f"{name} is too large to be a playlist.")
    suffix = Path(name).suffix.lower()
    if suffix not in (*LIST_SUFFIXES, ".cue"):
        raise PlaylistError(f"{name} is not a list: choose one that ends in {', '.join(LIST_SUFFIXES)} or .cue.")
    with TemporaryDirectory(prefix="rumbrel-") as folder:
        path = Path(folder, f"list{suffix}")
        with path.open("wb") as out:
            for chunk in file.chunks():
                out.write(chunk)
        tracks = _of_sheet(path) if suffix == ".cue" else read_list(path)
    if not tracks.entries:
        raise PlaylistError(f"{name} names no files.")
    if len(tracks.entries) > MOST_ENTRIES:
        raise PlaylistError(f"{name} has more than {MOST_ENTRIES:,} entries. Divide it first.")
    matches = match_entries(tracks.entries, _known())
    ids = [match.id for match in matches if match.id is not None]
    counts = {state: sum(1 for match in matches if match.state is state) for state in Found}
    playlist = None
    if ids:
        playlist = make_playlist(name=tracks.title or Path(name).stem, track_ids=ids)
        playlist.brought = _report(name, matches, counts)
        playlist.save(update_fields=["brought"])
    return Brought(
        playlist=playlist, found=counts[Found.FOUND], elsewhere=counts[Found.ELSEWHERE], missing=counts[Found.MISSING]
    )


def _known() -> list[KnownSound]:
    """Every file of the collection; parts of files have no names that a list could state."""
    rows = Track.objects.filter(cut_of=None)
    return [KnownSound(*row) for row in rows.values_list("pk", "path", "title", "seconds").iterator(chunk_size=5_000)]


def _of_sheet(path: Path) -> TrackList:
    """The files that a sheet names. One that it cuts into tracks is cut in the collection first, where its parts then
    are tracks of their own."""
    sheet = read_cue_file(path)
    names = [track.file.name for track in sheet.tracks]
    if len(set(names)) < len(names):
        raise PlaylistError(
            "This cue sheet cuts one file into tracks. Open that file's page in the collection and let the sheet cut it; "
            "then put its tracks on a list."
        )
    entries = [
        ListEntry(path=Path(track.file.name), written=track.file.name, title=track.title, performer=track.performer)
        for track in sheet.tracks
    ]
    return TrackList(entries=tuple(entries), title=sheet.title)


def _report(name: str, matches: list[Match], counts: dict[Found, int]) -> dict[str, object]:
    """What was not simply found, as records."""
    others = [match for match in matches if match.state is not Found.FOUND]
    return {
        "name": name,
        "counts": {str(state): count for state, count in counts.items()},
        "rows": [
            {"written": _text(match.entry.written or str(match.entry.path)), "state": str(match.state),
             "path": _text(match.path), "reason": match.reason}
            for match in others[:_MOST_TOLD]
        ],
        "more": max(0, len(others) - _MOST_TOLD),
    }  # fmt: skip


def _text(written: str) -> str:
    """As the database takes it."""
    return written.encode("utf-8", "replace").decode()[:1_000]
