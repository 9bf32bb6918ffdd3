"""Stand-ins as the bench shows them."""

from dataclasses import dataclass

from rumbrel.core.disc.media import Medium

__all__ = ["BlankRow", "blank_row"]


@dataclass(frozen=True, slots=True, kw_only=True)
class BlankRow:
    """A kind of blank with (speed, seconds that a full one takes) for each rated speed."""

    medium: Medium
    speeds: tuple[tuple[int, float], ...]


def blank_row(medium: Medium) -> BlankRow:
    full = [(speed, medium.write_seconds(medium.capacity_sectors, speed)) for speed in medium.speeds]
    return BlankRow(medium=medium, speeds=tuple(full))
