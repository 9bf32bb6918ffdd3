"""Discs as pages need them."""

from collections.abc import Sequence

from django.db.models import QuerySet
from django.urls import reverse

from rumbrel.core.disc.design import DiscDesign, DiscKind, TrackDesign
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.web.collection.queries import seconds_of
from rumbrel.web.ui.traces import Trace, TraceRow

from .models import Disc, DiscCopy

__all__ = ["copies", "discs", "discs_with_track", "filled_seconds", "siblings_of", "written_discs"]

_MOST_TRACES = 8


def discs() -> QuerySet[Disc]:
    return Disc.objects.filter(playlist__deleted_at=None).select_related("playlist", "job", "measuring")


def filled_seconds(found: Sequence[Disc]) -> dict[int, float]:
    """About how much of its blank each audio disc among them fills: its sounds as their files are, and its gaps."""
    designs = {disc.pk: disc.design for disc in found}
    audio = {pk: design for pk, design in designs.items() if design.kind is DiscKind.AUDIO}
    wanted = {track.source_id for design in audio.values() for track in design.kept}
    seconds = seconds_of(sorted(wanted))
    return {
        pk: sum(seconds.get(track.source_id, 0.0) for track in design.kept)
        + sum(_gap_sectors(design, track) for track in design.kept[1:]) / SECTORS_PER_SECOND
        for pk, design in audio.items()
    }


def _gap_sectors(design: DiscDesign, track: TrackDesign) -> int:
    if track.runs_on:
        return 0
    return design.gap_sectors if track.gap_sectors is None else track.gap_sectors


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
