"""A disc as its screen shows it."""

from dataclasses import dataclass
from functools import partial

from rumbrel.core.disc.layout import DiscLayout, DiscTrack, radius_mm

from .models import Disc
from .services import PlannedDisc

__all__ = ["Geometry", "TrackRow", "geometry", "is_as_written", "track_rows"]

RIM_MM = 59.0


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackRow:
    """A track of the layout; equal is its read-back, None where it was not written as it is now."""

    track: DiscTrack
    over: bool
    equal: bool | None


def is_as_written(disc: Disc, planned: PlannedDisc) -> bool:
    """Whether what stands on the disc is what the screen shows."""
    return bool(disc.written_mark) and disc.written_mark == planned.mark


def track_rows(disc: Disc, planned: PlannedDisc) -> list[TrackRow]:
    layout = planned.plan.layout
    equal = {v["number"]: v["equal"] for v in disc.verdicts} if is_as_written(disc, planned) else {}
    capacity = layout.medium.capacity_sectors
    return [TrackRow(track=t, over=t.end_sector > capacity, equal=equal.get(t.number)) for t in layout.tracks]


@dataclass(frozen=True, slots=True, kw_only=True)
class Geometry:
    """Where the tracks lie on the disc: rings of (inner mm, outer mm, number), and where the medium ends."""

    rings: tuple[tuple[float, float, int], ...]
    edge_mm: float


def geometry(layout: DiscLayout) -> Geometry:
    """Rings from the inside out, as far as there is disc."""
    radius = partial(radius_mm, pitch_um=layout.medium.pitch_um)
    rings = [(radius(t.start_sector), min(RIM_MM, radius(t.end_sector)), t.number) for t in layout.tracks]
    return Geometry(
        rings=tuple(ring for ring in rings if ring[0] < RIM_MM), edge_mm=radius(layout.medium.capacity_sectors)
    )
