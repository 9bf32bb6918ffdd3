"""Make and order playlists."""

from collections.abc import Sequence

from django.db import transaction

from rumbrel.core.errors import PlaylistError
from rumbrel.web.collection.models import Track

from .models import Entry, Playlist


def make(name: str, tracks: Sequence[Track]) -> Playlist:
    """A playlist of the tracks in their order. Raises PlaylistError when there are none."""
    if not tracks:
        raise PlaylistError("The pull list is empty. Pull tracks in the collection first.")
    with transaction.atomic():
        playlist = Playlist.objects.create(name=name.strip()[:200] or "Untitled list")
        Entry.objects.bulk_create(
            [Entry(playlist=playlist, track=track, position=number) for number, track in enumerate(tracks)]
        )
    return playlist


def reorder(playlist: Playlist, order: Sequence[int]) -> None:
    """Put entries into the given order of ids; entries not named keep their order at the end."""
    entries = {entry.pk: entry for entry in playlist.entries.all()}
    wanted = [entries.pop(pk) for pk in order if pk in entries]
    with transaction.atomic():
        for position, entry in enumerate([*wanted, *entries.values()]):
            if entry.position != position:
                entry.position = position
                entry.save(update_fields=["position"])


def move(entry: Entry, step: int) -> None:
    """One place up (-1) or down (1)."""
    order = list(entry.playlist.entries.values_list("pk", flat=True))
    at = order.index(entry.pk)
    to = max(0, min(len(order) - 1, at + step))
    order.insert(to, order.pop(at))
    reorder(entry.playlist, order)
