"""Order a playlist: what a change costs does not depend on the list's length."""

from collections.abc import Sequence

from django.db import transaction
from django.db.models import Q

from ..models import Entry, Playlist
from .make_playlist import recount_playlist

__all__ = ["move_entry", "order_entries", "remove_entry"]


def order_entries(*, playlist: Playlist, order: Sequence[int]) -> None:
    """Put the named entries into that order, at the positions that they hold together."""
    wanted = list(dict.fromkeys(order))[:1_000]
    with transaction.atomic():
        there = {entry.pk: entry for entry in playlist.entries.filter(pk__in=wanted).only("pk", "position")}
        positions = sorted(entry.position for entry in there.values())
        changed = []
        for pk, position in zip([pk for pk in wanted if pk in there], positions, strict=True):
            if there[pk].position != position:
                there[pk].position = position
                changed.append(there[pk])
        Entry.objects.bulk_update(changed, ["position"], batch_size=200)


def move_entry(*, entry: Entry, step: int) -> None:
    """One up (-1) or down (1): it changes places with its neighbour."""
    beside = Entry.objects.filter(playlist=entry.playlist_id).exclude(pk=entry.pk)
    here = Q(position=entry.position)
    if step < 0:
        found = beside.filter(Q(position__lt=entry.position) | here & Q(pk__lt=entry.pk)).order_by("-position", "-pk")
    else:
        found = beside.filter(Q(position__gt=entry.position) | here & Q(pk__gt=entry.pk)).order_by("position", "pk")
    neighbour = found.first()
    if neighbour is None:
        return
    with transaction.atomic():
        entry.position, neighbour.position = neighbour.position, entry.position
        Entry.objects.bulk_update([entry, neighbour], ["position"])


def remove_entry(*, entry: Entry) -> None:
    """Take an entry off its list; the track and its file stay."""
    playlist = entry.playlist
    with transaction.atomic():
        entry.delete()
        recount_playlist(playlist=playlist)
