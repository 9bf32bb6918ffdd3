"""Kinds of blanks and how long writing one takes."""

from dataclasses import dataclass

from rumbrel.core.errors import DiscError

from .red_book import BYTES_PER_SECTOR, SECTORS_PER_SECOND

__all__ = ["MEDIA", "Medium", "medium_for", "smallest_medium", "speed_advice"]

_DATA_BYTES_PER_SECTOR = 2048


@dataclass(frozen=True, slots=True, kw_only=True)
class Medium:
    """capacity_sectors counts from address 0. speeds are multiples of 75 sectors/s; careful_speed
    is the one common practice takes for copies that must play everywhere, safe_speed the highest at
    which writes of this kind rarely fail. pitch_um is the track pitch its length needs.
    beyond_standard marks blanks longer than the standard knows: not every drive takes them."""

    key: str
    label: str
    capacity_sectors: int
    speeds: tuple[int, ...]
    careful_speed: int
    safe_speed: int
    pitch_um: float
    rewritable: bool = False
    beyond_standard: bool = False

    @property
    def a_label(self) -> str:
        """With its article: an 80 minute blank."""
        return f"{'an' if self.label.startswith('8') else 'a'} {self.label}"

    @property
    def capacity_bytes(self) -> int:
        """Bytes of sound the medium holds."""
        return self.capacity_sectors * BYTES_PER_SECTOR

    @property
    def capacity_seconds(self) -> float:
        return self.capacity_sectors / SECTORS_PER_SECOND

    @property
    def data_bytes(self) -> int:
        """Bytes of a data disc."""
        return self.capacity_sectors * _DATA_BYTES_PER_SECTOR

    def write_seconds(self, sectors: int, speed: int) -> float:
        """Time to write so many sectors: sectors / (75 x speed), lead-in, lead-out and closing on top."""
        return sectors / (SECTORS_PER_SECOND * speed) + (LEAD_IN_SECONDS + LEAD_OUT_SECONDS) / speed + CLOSING_SECONDS


LEAD_IN_SECONDS = 60
LEAD_OUT_SECONDS = 90
"""At single speed: a minute and a minute and a half (common practice)."""
CLOSING_SECONDS = 10
"""What recorders take to settle and to close, whatever the speed (common practice)."""

MEDIA: tuple[Medium, ...] = (
    Medium(
        key="21", label="21 minute small blank", capacity_sectors=94_500, speeds=(4, 8, 16), careful_speed=4,
        safe_speed=8, pitch_um=1.6,
    ),
    Medium(
        key="63", label="63 minute blank", capacity_sectors=283_500, speeds=(4, 8, 16), careful_speed=8,
        safe_speed=16, pitch_um=1.6,
    ),
    Medium(
        key="74", label="74 minute blank", capacity_sectors=333_000, speeds=(4, 8, 16, 24), careful_speed=8,
        safe_speed=16, pitch_um=1.6,
    ),
    Medium(
        key="80", label="80 minute blank", capacity_sectors=360_000, speeds=(4, 8, 16, 24, 48), careful_speed=8,
        safe_speed=24, pitch_um=1.5,
    ),
    Medium(
        key="80rw", label="80 minute rewritable", capacity_sectors=360_000, speeds=(4, 8, 10), careful_speed=4,
        safe_speed=8, pitch_um=1.5, rewritable=True,
    ),
    Medium(
        key="90", label="90 minute blank", capacity_sectors=405_000, speeds=(4, 8, 16), careful_speed=4,
        safe_speed=8, pitch_um=1.33, beyond_standard=True,
    ),
    Medium(
        key="99", label="99 minute blank", capacity_sectors=445_500, speeds=(4, 8), careful_speed=4,
        safe_speed=4, pitch_um=1.21, beyond_standard=True,
    ),
)  # fmt: skip


def medium_for(key: str) -> Medium:
    """The medium of a key. Raises DiscError naming the ones there are."""
    for medium in MEDIA:
        if medium.key == key:
            return medium
    raise DiscError(f"There is no medium '{key}'. There are: {', '.join(medium.key for medium in MEDIA)}.")


def speed_advice(medium: Medium, speed: int) -> str:
    """A sentence about a speed, "" where there is nothing to say. Slower is safer (common practice)."""
    if speed > medium.safe_speed:
        return (
            f"{speed}x is faster than this blank is safe for: writes fail more often above {medium.safe_speed}x. "
            f"{medium.careful_speed}x is careful."
        )
    return ""


def smallest_medium(sectors: int) -> Medium | None:
    """The smallest blank that holds so much, one of the standard's first; None where none does."""
    enough = [medium for medium in MEDIA if medium.capacity_sectors >= sectors and not medium.rewritable]
    return min(enough, key=lambda medium: (medium.beyond_standard, medium.capacity_sectors), default=None)
