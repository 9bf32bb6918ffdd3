"""Lists as pages need them."""

from django.core.paginator import Page, Paginator
from django.db.models import QuerySet

from rumbrel.web.collection.models import Track

from .models import Entry, Playlist

__all__ = ["deleted_lists", "entries_page", "listed_tracks", "playlists"]

PAGE_ENTRIES = 100
_MOST_DELETED = 20


def playlists() -> QuerySet[Playlist]:
    return Playlist.objects.prefetch_related("discs")


def deleted_lists() -> QuerySet[Playlist]:
    """Lists that can still be put back, the latest first."""
    return Playlist.all_lists.exclude(deleted_at=None).order_by("-deleted_at")[:_MOST_DELETED]


def entries_page(playlist: Playlist, number: str | None) -> "Page[Entry]":
    """A page of the list, with the tracks."""
    return Paginator(playlist.entries.select_related("track"), PAGE_ENTRIES).get_page(number)


def listed_tracks(playlist: Playlist) -> list[Track]:
    """All tracks of a list in its order."""
    return [entry.track for entry in playlist.entries.select_related("track")]
