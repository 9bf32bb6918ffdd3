"""Which of a file's several sounds a track is about."""

from pathlib import Path

from django.db import transaction

from rumbrel.core.inspection import inspect_file

from ..models import DeepLook, SourceFolder, Track
from ..pictures import picture_path
from ..queries import facts_by_id
from .hear_track import TrackUnheard, see_that_it_is_there
from .keep_facts import keep_facts
from .recount import recount_folder

__all__ = ["choose_sound"]


def choose_sound(*, track: Track, number: int) -> str:
    """Have a track be about the sound of a number, counted from 1; what a look told of another is forgotten. Returns
    what it is called. Raises RumbrelError where there is no such sound, or the file is not there."""
    facts = facts_by_id([track.pk]).get(track.pk)
    if facts is None or facts.is_part or not 1 <= number <= len(facts.streams):
        raise TrackUnheard("There is no such sound in this file. Scan its folder again.")
    see_that_it_is_there(facts)
    found = inspect_file(Path(facts.path), sound=str(number))
    with transaction.atomic():
        Track.objects.filter(pk=track.pk).update(sound=str(number))
        DeepLook.objects.filter(track=track).delete()
        folder = keep_facts(track_id=track.pk, facts=found)
    picture_path(track.pk).unlink(missing_ok=True)
    for each in SourceFolder.objects.filter(pk=folder):
        recount_folder(folder=each)
    stream = found.streams[number - 1]
    return stream.language or stream.title or f"number {number}"
