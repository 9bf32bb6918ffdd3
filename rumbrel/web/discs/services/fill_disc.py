"""What would fill the rest of a disc: tracks from a pool that lie on it best together."""

from collections.abc import Sequence
from dataclasses import dataclass

from rumbrel.core.disc.design import DiscDesign, added
from rumbrel.core.disc.fitting import fill_from_pool
from rumbrel.core.disc.red_book import sectors_for_samples
from rumbrel.core.errors import DiscError
from rumbrel.core.workflows.disc_sounds import Sound
from rumbrel.web.collection.queries import known_tracks
from rumbrel.web.ui.words import counted

from ..models import Disc
from .change_disc import MOST_LISTED, Changed, change_disc
from .plan_layout import NOT_THERE, plan_layout

__all__ = ["Filling", "add_tracks", "filling_for", "listed_filling"]

MOST_POOL = 2_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Filling:
    """The tracks that fill best, by id and title, and the sectors that stay free then."""

    track_ids: tuple[int, ...]
    titles: tuple[str, ...]
    free_sectors: int


def filling_for(*, disc: Disc, pool_ids: Sequence[int]) -> Filling:
    """Choose from a pool what is not on the disc. Raises DiscError when nothing of it fits."""
    planned = plan_layout(disc=disc)
    layout = planned.audio.layout
    on_disc = {track.source_id for track in planned.design.tracks}
    candidates: list[tuple[int, str, int]] = []
    for track in known_tracks([pk for pk in dict.fromkeys(pool_ids) if pk not in on_disc][:MOST_POOL]):
        sound = Sound(facts=track.facts, title=track.title, reason=NOT_THERE if track.missing else "")
        try:
            candidates.append((track.pk, track.title, sectors_for_samples(sound.programme().disc_samples)))
        except DiscError:
            # What cannot go on a disc cannot fill it.
            continue
    best = fill_from_pool(layout, [sectors for _, _, sectors in candidates], gap_sectors=planned.design.gap_sectors)
    if not best.positions:
        raise DiscError("Nothing that is not on the disc already fits into the rest. Choose another pool.")
    return Filling(
        track_ids=tuple(candidates[at][0] for at in best.positions),
        titles=tuple(candidates[at][1] for at in best.positions), free_sectors=best.free_sectors,
    )  # fmt: skip


def listed_filling(text: str) -> list[int]:
    """Ids between blanks, as far as they are numbers."""
    return [int(part) for part in text.split() if part.isascii() and part.isdecimal() and len(part) < 19][:MOST_POOL]


def add_tracks(*, disc_id: int, track_ids: Sequence[int], revision: int | None = None) -> Changed:
    """More tracks behind the last of a disc. Raises DiscError for none, or where it would pass any disc."""
    known = [track.pk for track in known_tracks(track_ids)]
    if not known:
        raise DiscError("These tracks are no longer in the collection.")

    def more(design: DiscDesign) -> DiscDesign:
        if len(design.tracks) + len(known) > MOST_LISTED:
            raise DiscError(f"At most {MOST_LISTED:,} tracks can be on the list of a disc.")
        return added(design, known)

    return change_disc(disc_id=disc_id, change=more, said=f"{counted(len(known), 'track')} added", revision=revision)
