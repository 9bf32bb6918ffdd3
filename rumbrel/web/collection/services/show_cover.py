"""The pictures in a track's tags, as its page shows them."""

from pathlib import Path

from rumbrel.core.errors import TagError
from rumbrel.core.tags import read_tags
from rumbrel.core.tags.preview import cover_preview

from ..models import Track
from ..queries import facts_by_id
from .hear_track import see_that_it_is_there

__all__ = ["show_cover"]

COVER_PIXELS = 320


def show_cover(*, track: Track, number: int) -> bytes:
    """A picture of the track's tags, counted from 0, as JPEG. Raises RumbrelError."""
    facts = facts_by_id([track.pk]).get(track.pk)
    if facts is None or number >= len(facts.tags.covers):
        raise TagError("There is no such picture in its tags.")
    see_that_it_is_there(facts)
    covers = read_tags(Path(facts.path), container=facts.container, codec=facts.codec).covers
    return cover_preview(covers[number], pixels=COVER_PIXELS)
