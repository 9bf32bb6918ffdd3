"""The very disc that a cue sheet describes, of the file that the sheet cuts into tracks."""

from django.db import transaction

from rumbrel.core.errors import DiscError
from rumbrel.core.records import as_record
from rumbrel.core.workflows.design_disc import sheet_design
from rumbrel.core.workflows.make_disc import sheet_says
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.services import cut_track, find_cutting
from rumbrel.web.playlists.services import make_playlist

from ..models import Disc

__all__ = ["lay_out_sheet"]


def lay_out_sheet(*, track: Track, key: str) -> Disc:
    """A disc with the gaps, codes, flags and marks of a sheet. The file's tracks are added to the collection, and a list
    of them is made, that the disc is of. Raises RumbrelError for a sheet that is gone or says what no disc here can be."""
    _, found = find_cutting(track, key)
    if found is None or found.sheet is None:
        raise DiscError("The file no longer has such a cue sheet. Show its page again.")
    packs = sheet_says(found.sheet_path).packs if found.sheet_path else None
    with transaction.atomic():
        ids = cut_track(track=track, key=key)
        name = found.sheet.title or track.title
        design = sheet_design(found.sheet, ids, packs)
        playlist = make_playlist(name=name, track_ids=ids)
        return Disc.objects.create(playlist=playlist, name=playlist.name, plan=as_record(design))
