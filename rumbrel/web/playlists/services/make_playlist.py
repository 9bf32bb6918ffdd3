"""Make a playlist of tracks."""

from collections.abc import Sequence

from django.db import transaction
from django.db.models import Count, Sum

from rumbrel.core.errors import PlaylistError

from ..models import Entry, Playlist

__all__ = ["make_playlist", "recount_playlist"]


def make_playlist(*, name: str, track_ids: Sequence[int]) -> Playlist:
    """A list of the tracks in their order. Raises PlaylistError when there are none."""
    if not track_ids:
        raise PlaylistError("The pull list is empty. Pull tracks in the collection first.")
    with transaction.atomic():
        playlist = Playlist.objects.create(name=_free_name(name.strip()[:190] or "Untitled list"))
        Entry.objects.bulk_create(
            [Entry(playlist=playlist, track_id=pk, position=number) for number, pk in enumerate(track_ids, 1)],
            batch_size=2_000,
        )
        recount_playlist(playlist=playlist)
    return playlist


def _free_name(name: str) -> str:
    """The name, with a number where another list has it: two of one name could not be told apart."""
    taken = set(Playlist.objects.filter(name__startswith=name).values_list("name", flat=True))
    number = 2
    free = name
    while free in taken:
        free, number = f"{name} ({number})", number + 1
    return free


def recount_playlist(*, playlist: Playlist) -> None:
    """Bring the kept count and length into line with the entries."""
    sums = playlist.entries.aggregate(n=Count("pk"), s=Sum("track__seconds"))
    playlist.count, playlist.seconds = sums["n"], sums["s"] or 0.0
    playlist.save(update_fields=["count", "seconds"])
