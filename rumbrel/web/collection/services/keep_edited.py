"""A track whose tags were edited here: its facts are the file's as it is now, and what is known of its sound stays."""

from rumbrel.core.inspection import Facts

from ..facts import derived_columns, is_of, kept_facts, search_words, with_look
from ..models import DeepLook, Track, TrackFacts
from ..queries import facts_by_id
from .check_fixity import note_edited_file

__all__ = ["keep_edited"]


def keep_edited(*, track: Track, facts: Facts) -> None:
    """The caller owns the transaction, and recounts the folder."""
    before = facts_by_id([track.pk]).get(track.pk)
    look = DeepLook.objects.filter(track=track).first()
    if look is not None and before is not None and is_of(look, before):
        # The sound was proved to be the same, so what was found in it holds.
        look.size_bytes, look.modified_ns = facts.size_bytes, facts.modified_ns
        look.save(update_fields=["size_bytes", "modified_ns"])
    note_edited_file(track=track, facts=facts)
    facts = with_look(facts, look)
    derived_columns(track, facts).save()
    TrackFacts.objects.update_or_create(
        track=track, defaults={"data": kept_facts(facts), "words": search_words(track, facts)}
    )
