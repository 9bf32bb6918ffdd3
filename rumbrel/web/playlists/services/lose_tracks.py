"""What becomes of lists when tracks leave the collection."""

from collections.abc import Callable, Sequence

from rumbrel.web.ui.words import counted

from ..models import Playlist
from .make_playlist import recount_playlist

__all__ = ["lists_said", "settle_lists"]

_IDS_A_QUERY = 900


def _lists_of(track_ids: Sequence[int]) -> set[int]:
    found: set[int] = set()
    for start in range(0, len(track_ids), _IDS_A_QUERY):
        turn = track_ids[start : start + _IDS_A_QUERY]
        found.update(Playlist.all_lists.filter(entries__track__in=turn).values_list("pk", flat=True).distinct())
    return found


def lists_said(track_ids: Sequence[int]) -> str:
    """How many lists hold any of the tracks, in words."""
    lists = len(_lists_of(track_ids))
    return f"{counted(lists, 'playlist')} would lose entries." if lists else ""


def settle_lists(track_ids: Sequence[int]) -> Callable[[], None]:
    """What is to be done with the lists that hold the tracks once these are gone."""
    lists = _lists_of(track_ids)

    def settle() -> None:
        for playlist in Playlist.all_lists.filter(pk__in=lists):
            recount_playlist(playlist=playlist)

    return settle
