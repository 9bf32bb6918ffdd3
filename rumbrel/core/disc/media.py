"""Kinds of blanks and how long writing one takes."""

from dataclasses import dataclass

from rumbrel.core.errors import DiscError

from .red_book import BYTES_PER_SECTOR, SECTORS_PER_SECOND

__all__ = ["MEDIA", "Medium", "medium_for"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Medium:
    """capacity_sectors counts from address 0. speeds are multiples of 75 sectors/s; careful_speed
    is the one common practice takes for copies that must play everywhere. pitch_um is the track pitch its length needs."""

    key: str
    label: str
    capacity_sectors: int
    speeds: tuple[int, ...]
    careful_speed: int
    pitch_um: float

    @property
    def capacity_bytes(self) -> int:
        """Bytes of sound the medium holds."""
        return self.capacity_sectors * BYTES_PER_SECTOR

    def write_seconds(self, sectors: int, speed: int) -> float:
        """Time to write so many sectors: sectors / (75 x speed), lead-in, lead-out and closing on top."""
        return sectors / (SECTORS_PER_SECOND * speed) + _LEAD_SECONDS_AT_1X / speed + _CLOSING_SECONDS


_LEAD_SECONDS_AT_1X = 60 + 90
"""Lead-in of a minute and lead-out of a minute and a half (common practice)."""
_CLOSING_SECONDS = 10

MEDIA: tuple[Medium, ...] = (
    Medium(
        key="74",
        label="74 minute blank",
        capacity_sectors=333_000,
        speeds=(4, 8, 16, 24),
        careful_speed=8,
        pitch_um=1.6,
    ),
    Medium(
        key="80",
        label="80 minute blank",
        capacity_sectors=360_000,
        speeds=(4, 8, 16, 24, 48),
        careful_speed=8,
        pitch_um=1.5,
    ),
)


def medium_for(key: str) -> Medium:
    """The medium of a key. Raises DiscError naming the ones there are."""
    for medium in MEDIA:
        if medium.key == key:
            return medium
    raise DiscError(f"There is no medium '{key}'. There are: {', '.join(medium.key for medium in MEDIA)}.")
