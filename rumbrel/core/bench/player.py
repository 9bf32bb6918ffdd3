"""The stand-in player: plays what a standard audio player plays, and refuses what it refuses."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, CHANNELS, MAX_TRACKS, MIN_TRACK_SECTORS
from rumbrel.core.errors import DiscError

from .image_disc import ImageDisc, open_image

__all__ = ["StandInPlayer"]

_BLOCK_SECTORS = 750
_DATA_SUFFIXES = frozenset({".iso"})


class StandInPlayer:
    """Put a disc in, then play its tracks sample by sample."""

    def __init__(self, disc_path: Path) -> None:
        """Read the contents table. Raises DiscError with what a player would stumble over."""
        if disc_path.suffix.lower() in _DATA_SUFFIXES:
            raise DiscError("This is a data disc: a standard player shows no tracks on it.")
        self._disc = open_image(disc_path)
        self._check(self._disc)

    @staticmethod
    def _check(disc: ImageDisc) -> None:
        contents = disc.contents
        if not 1 <= len(contents.tracks) <= MAX_TRACKS:
            raise DiscError(f"The disc has {len(contents.tracks)} tracks; a player knows 1 to {MAX_TRACKS}.")
        numbers = [track.number for track in contents.tracks]
        if numbers != list(range(1, len(numbers) + 1)):
            raise DiscError("The tracks are not numbered in order from 1.")
        for place, track in enumerate(contents.tracks):
            if contents.end_of(place) - track.start_sector < MIN_TRACK_SECTORS:
                raise DiscError(f"Track {track.number} is shorter than 4 s: a player passes it over.")

    @property
    def tracks(self) -> int:
        """How many tracks the player shows."""
        return len(self._disc.contents.tracks)

    def track_bytes(self, number: int) -> int:
        """Bytes of a track from its index 1 to the next one's. Raises DiscError for one there is not."""
        start, end = self._stretch(number)
        return (end - start) * BYTES_PER_SECTOR

    def piece(self, number: int, start_byte: int, end_byte: int) -> bytes:
        """A part of a track's samples as the disc holds them."""
        start, _ = self._stretch(number)
        first, last = start_byte // BYTES_PER_SECTOR, -(-end_byte // BYTES_PER_SECTOR)
        sectors = self._disc.read(start + first, last - first)
        return sectors[start_byte - first * BYTES_PER_SECTOR : end_byte - first * BYTES_PER_SECTOR]

    def _stretch(self, number: int) -> tuple[int, int]:
        """The sectors of a track; a player goes on through the gap before the next."""
        contents = self._disc.contents
        if not 1 <= number <= len(contents.tracks):
            raise DiscError(f"There is no track {number} on this disc.")
        return contents.tracks[number - 1].start_sector, contents.end_of(number - 1)

    def play(self, number: int) -> Iterator[NDArray[np.int16]]:
        """The samples from a track's index 1 to the next one's, shaped (samples, 2)."""
        at, end = self._stretch(number)
        while at < end:
            count = min(_BLOCK_SECTORS, end - at)
            yield np.frombuffer(self._disc.read(at, count), dtype="<i2").reshape(-1, CHANNELS)
            at += count
