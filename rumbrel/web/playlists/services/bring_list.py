"""Import a playlist that was made elsewhere: what of it is in the collection becomes a playlist, and the rest is told."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from django.core.files.uploadedfile import UploadedFile

from rumbrel.core.disc.cue_sheet import CueFile, CueSheet, read_cue_file
from rumbrel.core.errors import PlaylistError
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry, TrackList, read_list
from rumbrel.core.playlists.encoding import decoded_text
from rumbrel.core.playlists.matching import Found, KnownSound, Match, match_entries
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import tracks_of_sheet

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
        sheet = read_cue_file(path) if suffix == ".cue" else None
        tracks = read_list(path) if sheet is None else _of_sheet(sheet)
        text = "" if sheet is None else decoded_text(path.read_bytes())
    if not tracks.entries:
        raise PlaylistError(f"{name} names no files.")
    if len(tracks.entries) > MOST_ENTRIES:
        raise PlaylistError(f"{name} has more than {MOST_ENTRIES:,} entries. Divide it first.")
    matches = match_entries(tracks.entries, _known())
    ids = [match.id for match in matches if match.id is not None]
    counts = {state: sum(1 for match in matches if match.state is state) for state in Found}
    playlist = None
    described: dict[str, object] = {}
    if sheet is not None and len(ids) == len(matches):
        found = {file.name: pk for file, pk in zip(_files(sheet), ids, strict=True)}
        ids = _tracks_of(sheet, found)
        described = {"sheet": text, "files": found}
    if ids:
        playlist = make_playlist(name=tracks.title or Path(name).stem, track_ids=ids)
        playlist.brought = _report(name, matches, counts) | described
        playlist.save(update_fields=["brought"])
    return Brought(
        playlist=playlist, found=counts[Found.FOUND], elsewhere=counts[Found.ELSEWHERE], missing=counts[Found.MISSING]
    )


def _known() -> list[KnownSound]:
    """Every file of the collection; parts of files have no names that a list could state."""
    rows = Track.objects.filter(cut_of=None)
    return [KnownSound(*row) for row in rows.values_list("pk", "path", "title", "seconds").iterator(chunk_size=5_000)]


def _files(sheet: CueSheet) -> list[CueFile]:
    """The files of a sheet that hold its tracks."""
    return list(dict.fromkeys(track.file for track in sheet.tracks))


def _of_sheet(sheet: CueSheet) -> TrackList:
    """The files that a sheet names, each once; one that is a single track by its title."""
    entries = []
    for file in _files(sheet):
        tracks = [track for track in sheet.tracks if track.file == file]
        title, performer = (tracks[0].title, tracks[0].performer) if len(tracks) == 1 else ("", "")
        entries.append(ListEntry(path=Path(file.name), written=file.name, title=title, performer=performer))
    return TrackList(entries=tuple(entries), title=sheet.title)


def _tracks_of(sheet: CueSheet, found: Mapping[str, int]) -> list[int]:
    """The tracks of a sheet whose files are all in the collection. Raises RumbrelError where one is no longer as it is
    cut."""
    rows = Track.objects.in_bulk(list(found.values()))
    facts = facts_by_id(list(rows))
    files = {file: rows[found[file.name]] for file in _files(sheet)}
    unread = [file.name for file, row in files.items() if row.pk not in facts]
    if unread:
        raise PlaylistError(f"{unread[0]} was not scanned yet. Scan its folder, then import the sheet again.")
    return tracks_of_sheet(sheet=sheet, rows=files, facts={file: facts[row.pk] for file, row in files.items()})


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
