"""Lists as pages need them."""

from django.core.paginator import Page, Paginator
from django.db.models import QuerySet, Sum
from django.urls import reverse

from rumbrel.web.ui.traces import Trace, TraceRow

from .models import Entry, Playlist

__all__ = [
    "deleted_lists",
    "entries_page",
    "entry_behind",
    "listed_ids",
    "lists_with_track",
    "playlists",
    "strip_of",
]

PAGE_ENTRIES = 100
_MOST_DELETED = 20
_MOST_TRACES = 40
_MOST_LENGTHS = 400


def playlists() -> QuerySet[Playlist]:
    return Playlist.objects.prefetch_related("discs")


def deleted_lists() -> QuerySet[Playlist]:
    """Lists that can still be put back, the latest first."""
    return Playlist.all_lists.exclude(deleted_at=None).order_by("-deleted_at")[:_MOST_DELETED]


def entries_page(playlist: Playlist, number: str | None) -> "Page[Entry]":
    """A page of the list, with the tracks, and where each begins in seconds from the beginning of the list."""
    page = Paginator(playlist.entries.select_related("track"), PAGE_ENTRIES).get_page(number)
    first = max(0, page.start_index() - 1)
    earlier = playlist.entries.values("track__seconds")[:first]
    at = earlier.aggregate(s=Sum("track__seconds"))["s"] or 0.0 if first else 0.0
    for entry in page.object_list:
        entry.starts = at
        at += entry.track.seconds
    return page


def strip_of(playlist: Playlist) -> list[tuple[float, int, str]]:
    """The list as lengths for a ruler; of one too long to be told apart, all as one length."""
    if playlist.count > _MOST_LENGTHS:
        return [(playlist.seconds, playlist.count, "")]
    entries = playlist.entries.values_list("track__seconds", "track__title")
    return [(seconds, 1, title) for seconds, title in entries]


def entry_behind(playlist: Playlist, page: "Page[Entry]") -> str:
    """The key of the first entry behind a page, "" behind the last."""
    behind = playlist.entries.values_list("pk", flat=True)[page.end_index() : page.end_index() + 1]
    return str(behind[0]) if behind else ""


def listed_ids(playlist_id: int) -> list[int]:
    """The ids of a list's tracks in its order; none for a list that is gone."""
    return list(
        Entry.objects.filter(playlist=playlist_id, playlist__deleted_at=None).values_list("track_id", flat=True)
    )


def lists_with_track(track_id: int) -> Trace:
    """The lists that hold a track."""
    entries = Entry.objects.filter(track_id=track_id, playlist__deleted_at=None).select_related("playlist")
    rows: dict[int, TraceRow] = {}
    for entry in entries.order_by("-playlist_id")[:_MOST_TRACES]:
        address = reverse("playlists:playlist", args=[entry.playlist_id])
        rows.setdefault(entry.playlist_id, TraceRow(name=entry.playlist.name, detail="playlist", address=address))
    return Trace(heading="In lists", rows=tuple(rows.values()), total=len(rows))
