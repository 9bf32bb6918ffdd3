"""Stand-in drives for reading: a disc from an image, with faults that a seed decides."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from rumbrel.core.disc.reading import Contents, SectorUnread
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, CHANNELS
from rumbrel.core.errors import DiscError

from .image_disc import open_image

__all__ = [
    "BENCH_DRIVES",
    "DEAD",
    "DRIVES",
    "RELUCTANT",
    "DriveKind",
    "StandInDrive",
    "drive_for",
    "drive_with",
    "faults_of",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class DriveKind:
    """What a drive is like, and the disc in it.

    offset_samples is how late it delivers, overreads that it reads beyond the disc's edges. Of every thousand sectors, so many read differently each
    time at full speed (wavering), fail at the first tries (reluctant) or for ever (dead).
    """

    key: str
    label: str
    offset_samples: int = 0
    overreads: bool = False
    wavering: float = 0.0
    reluctant: float = 0.0
    dead: float = 0.0
    speeds: tuple[int, ...] = (1, 4, 16)


DRIVES: tuple[DriveKind, ...] = (
    DriveKind(key="clean", label="a good drive"),
    DriveKind(key="offset", label="a drive that delivers 100 samples late", offset_samples=100),
    DriveKind(key="early", label="a drive that delivers 500 samples early and reads beyond the edges",
              offset_samples=-500, overreads=True),
    DriveKind(key="scratched", label="a scratched disc that can be read with patience", offset_samples=10,
              wavering=1.0, reluctant=0.5),
    DriveKind(key="broken", label="a disc with spots that nothing reads", wavering=1.0, reluctant=0.5, dead=0.2),
)  # fmt: skip


def drive_for(key: str) -> DriveKind:
    """The drive of a key. Raises DiscError naming the ones there are."""
    for kind in DRIVES:
        if kind.key == key:
            return kind
    raise DiscError(f"There is no condition '{key}'. There are: {', '.join(kind.key for kind in DRIVES)}.")


BENCH_DRIVES = ("clean", "offset", "early")
"""Those of the kinds that are drives; the others are discs that are hard to read."""


def drive_with(drive: DriveKind, disc: DriveKind) -> DriveKind:
    """A drive with a disc of some condition in it."""
    return replace(
        disc, key=drive.key, label=drive.label, offset_samples=drive.offset_samples, overreads=drive.overreads
    )


WAVERING, RELUCTANT, DEAD = "wavering", "reluctant", "dead"


def faults_of(kind: DriveKind, sectors: int, seed: int = 1) -> Mapping[int, str]:
    """What is wrong with which of a disc's sectors. The same seed gives the same faults."""
    random = np.random.default_rng(seed)
    draw = random.random(sectors) * 1000
    found: dict[int, str] = {}
    for name, low, high in (
        (DEAD, 0.0, kind.dead),
        (RELUCTANT, kind.dead, kind.dead + kind.reluctant),
        (WAVERING, kind.dead + kind.reluctant, kind.dead + kind.reluctant + kind.wavering),
    ):
        found |= {int(sector): name for sector in np.flatnonzero((draw >= low) & (draw < high))}
    return found


class StandInDrive:
    """Delivers the sectors of an image as a drive of some kind would. The same seed gives the same faults."""

    def __init__(self, cue_path: Path, kind: DriveKind, *, seed: int = 1) -> None:
        self._disc = open_image(cue_path)
        self.offset_samples, self.overreads = kind.offset_samples, kind.overreads
        self.speeds = kind.speeds
        self._random = np.random.default_rng([seed, 7])
        self._tries: dict[int, int] = {}
        self.faults = faults_of(kind, self._disc.contents.lead_out_sector, seed)

    def contents(self) -> Contents:
        return self._disc.contents

    def read_sectors(self, start: int, count: int, *, speed: int) -> bytes:
        """Sectors as this drive delivers them: late or early by its offset, and with its faults."""
        data = bytearray(self._shifted(start, count))
        for sector in range(start, start + count):
            fault = self.faults.get(sector)
            if fault is not None:
                self._disturb(data, sector, (sector - start) * BYTES_PER_SECTOR, fault, speed)
        return bytes(data)

    def _shifted(self, start: int, count: int) -> bytes:
        shift = self.offset_samples * CHANNELS * 2
        lead_out = self._disc.contents.lead_out_sector
        first, last = start * BYTES_PER_SECTOR - shift, (start + count) * BYTES_PER_SECTOR - shift
        low, high = first // BYTES_PER_SECTOR, -(-last // BYTES_PER_SECTOR)
        inner = range(max(0, low), min(lead_out, high))
        data = bytes((inner.start - low) * BYTES_PER_SECTOR) + self._disc.read(inner.start, len(inner))
        data = data.ljust((high - low) * BYTES_PER_SECTOR, b"\0")
        return data[first - low * BYTES_PER_SECTOR : last - low * BYTES_PER_SECTOR]

    def _disturb(self, data: bytearray, sector: int, at: int, fault: str, speed: int) -> None:
        tries = self._tries[sector] = self._tries.get(sector, 0) + 1
        if fault == DEAD or (fault == RELUCTANT and tries <= 4):
            raise SectorUnread("A sector could not be read.")
        # Slowly, a wavering sector mostly reads right; fast, hardly ever.
        if fault == WAVERING and self._random.random() < (0.9 if speed > self.speeds[0] else 0.25):
            place = at + int(self._random.integers(BYTES_PER_SECTOR))
            data[place] ^= int(self._random.integers(1, 256))
