"""The very disc that a cue sheet describes, of the files of the collection that it names."""

from collections.abc import Mapping
from pathlib import Path

from django.db import transaction

from rumbrel.core.disc.cue_sheet import CueFile, CueSheet, parse_cue_sheet
from rumbrel.core.disc.text import DiscText
from rumbrel.core.errors import DiscError
from rumbrel.core.records import as_record
from rumbrel.core.workflows.cut_tracks import Described
from rumbrel.core.workflows.gather_disc import packs_beside, sheet_design
from rumbrel.web.collection.facts import kept_path
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import described_for, tracks_of_sheet
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.services import make_playlist

from ..models import Disc

__all__ = ["lay_out_imported", "lay_out_sheet"]


def lay_out_sheet(*, track: Track, key: str) -> Disc:
    """A disc with the gaps, codes, flags and marks of a sheet beside or inside a file. The tracks are added to the
    collection, and a list of them is made, that the disc is of. Raises RumbrelError for a sheet that is gone, names what
    is not in the collection, or says what no disc here can be."""
    facts = facts_by_id([track.pk]).get(track.pk)
    found = next((each for each in described_for(track, facts) if each.key == key), None) if facts else None
    if found is None:
        raise DiscError("The file no longer has such a cue sheet. Show its page again.")
    rows = {file: _row_of(file, found, track) for file in found.sheet.files}
    packs = packs_beside(found.sheet_path, found.sheet) if found.sheet_path else None
    return _laid_out(found.sheet, rows, packs, name=found.sheet.title or track.title)


def lay_out_imported(*, playlist: Playlist) -> Disc:
    """The disc of the cue sheet that a list was imported from. Raises RumbrelError where it was no sheet, or where files
    that it names are not in the collection any more."""
    text, ids = playlist.brought.get("sheet", ""), playlist.brought.get("files", {})
    if not text:
        raise DiscError("This list was not imported from a cue sheet. Lay it out as a list.")
    sheet = parse_cue_sheet(text)
    known = Track.objects.filter(cut_of=None).in_bulk([ids[file.name] for file in sheet.files if file.name in ids])
    rows = {}
    for file in sheet.files:
        row = known.get(ids.get(file.name, 0))
        if row is None:
            raise DiscError(f"{file.name} is not in the collection. Add its folder, then import the sheet again.")
        rows[file] = row
    return _laid_out(sheet, rows, None, name=playlist.name, playlist=playlist)


def _row_of(file: CueFile, found: Described, track: Track) -> Track:
    """The file of the collection that a sheet names: the one on whose page it was met, or one in the sheet's folder."""
    if found.sheet_path is None or found.is_of(file, Path(track.path)):
        return track
    place = found.sheet_path.parent / file.name
    row = Track.objects.filter(path=kept_path(place), cut_of=None).first()
    if row is None:
        beside = Track.objects.filter(cut_of=None, path__startswith=f"{kept_path(place.with_suffix(''))}.")
        row = next((each for each in beside[:20] if found.is_of(file, Path(each.path))), None)
    if row is None:
        raise DiscError(
            f"{found.said_by[0].upper()}{found.said_by[1:]} names {file.name}, which is not in the collection. Scan its "
            "folder again, or add the sheet with its files to the bench."
        )
    return row


def _laid_out(
    sheet: CueSheet,
    rows: Mapping[CueFile, Track],
    packs: DiscText | None,
    *,
    name: str,
    playlist: Playlist | None = None,
) -> Disc:
    known = facts_by_id([row.pk for row in rows.values()])
    facts = {file: known[row.pk] for file, row in rows.items() if row.pk in known}
    unread = next((file for file in sheet.files if file not in facts or not facts[file].usable), None)
    if unread is not None:
        raise DiscError(f"{unread.name} has no sound that can be used. Its page says what is wrong with it.")
    with transaction.atomic():
        ids = tracks_of_sheet(sheet=sheet, rows=rows, facts=facts)
        wholes = {file: int(row.pk) for file, row in rows.items()}
        design = sheet_design(sheet, ids, wholes=wholes, facts=facts, packs=packs)
        kept = playlist or make_playlist(name=name, track_ids=ids)
        return Disc.objects.create(playlist=kept, name=name, plan=as_record(design))
