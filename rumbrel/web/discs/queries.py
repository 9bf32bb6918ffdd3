"""Discs as pages need them."""

from django.db.models import QuerySet
from django.urls import reverse

from rumbrel.web.ui.traces import Trace, TraceRow

from .models import Disc, DiscCopy

__all__ = ["copies", "discs", "discs_with_track", "siblings_of", "written_discs"]

_MOST_TRACES = 8


def discs() -> QuerySet[Disc]:
    return Disc.objects.filter(playlist__deleted_at=None).select_related("playlist", "job", "measuring")


def siblings_of(disc: Disc) -> list[Disc]:
    """The discs that were made together of one list, itself among them; none for one that is whole."""
    if disc.parts < 2:
        return []
    return list(discs().filter(playlist=disc.playlist_id, parts=disc.parts).order_by("pk")[:20])


def copies() -> QuerySet[DiscCopy]:
    """Copies of discs, the latest first."""
    return DiscCopy.objects.select_related("job")


def written_discs() -> QuerySet[Disc]:
    """Those whose image is there, proved or not."""
    return discs().exclude(image_path="")


def discs_with_track(track_id: int) -> Trace:
    """The discs whose lists hold a track."""
    found = Disc.objects.filter(playlist__entries__track_id=track_id, playlist__deleted_at=None).distinct()
    rows = [
        TraceRow(
            name=str(disc),
            detail=f"disc, {'written and read back' if disc.proved else disc.state}",
            address=reverse("discs:disc", args=[disc.pk]),
        )
        for disc in found.select_related("playlist")[:_MOST_TRACES]
    ]
    return Trace(heading="On discs", rows=tuple(rows), total=len(rows))
