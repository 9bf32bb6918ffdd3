"""A track whose file was read outside a scan: its facts are the file's as it is now, and what is known of it stays."""

from django.db import transaction

from rumbrel.core.inspection import Facts
from rumbrel.core.workflows.edit_tags import Edited

from ..facts import derived_columns, is_of, kept_facts, search_words, with_look
from ..models import DeepLook, Track, TrackFacts
from ..queries import facts_by_id
from .check_fixity import note_edited_file

__all__ = ["keep_edited", "keep_facts"]


def keep_facts(*, track_id: int, facts: Facts) -> int | None:
    """Keep them; returns the track's folder, which is to be recounted. None where the track is gone meanwhile."""
    with transaction.atomic():
        track = Track.objects.filter(pk=track_id).first()
        if track is None:
            return None
        derived_columns(track, facts).save()
        data = {"data": kept_facts(facts), "words": search_words(track, facts)}
        TrackFacts.objects.update_or_create(track=track, defaults=data)
    return track.folder_id


def keep_edited(*, track_id: int, edited: Edited) -> int | None:
    """The same for a file whose tags were edited here: what is known of its sound, and its fixity, goes on."""
    with transaction.atomic():
        before = facts_by_id([track_id]).get(track_id)
        look = DeepLook.objects.filter(track_id=track_id).first()
        if look is not None and before is not None and is_of(look, before):
            # The sound was proved to be the same, so what was found in it holds.
            look.size_bytes, look.modified_ns = edited.facts.size_bytes, edited.facts.modified_ns
            look.save(update_fields=["size_bytes", "modified_ns"])
        note_edited_file(track_id=track_id, before=edited.before, after=edited.after)
        return keep_facts(track_id=track_id, facts=with_look(edited.facts, look))
