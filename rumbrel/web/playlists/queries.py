"""Lists as pages need them."""

from django.core.paginator import Page, Paginator
from django.db.models import QuerySet

from rumbrel.web.collection.models import Track

from .models import Entry, Playlist

__all__ = ["entries_page", "listed_tracks", "playlists"]

PAGE_ENTRIES = 100


def playlists() -> QuerySet[Playlist]:
    return Playlist.objects.prefetch_related("discs")


def entries_page(playlist: Playlist, number: str | None) -> "Page[Entry]":
    """A page of the list, with the tracks."""
    return Paginator(playlist.entries.select_related("track"), PAGE_ENTRIES).get_page(number)


def listed_tracks(playlist: Playlist) -> list[Track]:
    """All tracks of a list in its order."""
    return [entry.track for entry in playlist.entries.select_related("track")]
