"""The stand-in player: plays what a standard audio player plays, and refuses what it refuses."""

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.disc.packs import fullest_text
from rumbrel.core.disc.reading import Contents
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, CHANNELS, MAX_TRACKS, MIN_TRACK_SECTORS, SECTORS_PER_SECOND
from rumbrel.core.disc.text import DiscText
from rumbrel.core.errors import DiscError

from .image_disc import ImageDisc, open_image

__all__ = ["HIDDEN", "Span", "StandInPlayer"]

_BLOCK_SECTORS = 750
_SEAM_SECTORS = 5 * SECTORS_PER_SECOND
_DATA_SUFFIXES = frozenset({".iso"})
HIDDEN = "hidden"
"""The part of a disc that is reached by searching back from the beginning of track 1."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """From one sector of a disc up to another."""

    start_sector: int
    end_sector: int

    @property
    def sectors(self) -> int:
        return self.end_sector - self.start_sector


class StandInPlayer:
    """Put a disc in, then play its tracks sample by sample. Of a sector that the disc's condition leaves unread nothing is
    heard."""

    def __init__(self, disc_path: Path, *, unread: Collection[int] = ()) -> None:
        """Read the contents table. Raises DiscError with what a player would stumble over."""
        if disc_path.suffix.lower() in _DATA_SUFFIXES:
            raise DiscError("This is a data disc: a standard player shows no tracks on it.")
        self._disc = open_image(disc_path)
        self._check(self._disc)
        self._unread = frozenset(unread)

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
    def contents(self) -> Contents:
        return self._disc.contents

    @property
    def tracks(self) -> int:
        """How many tracks the player shows."""
        return len(self._disc.contents.tracks)

    @property
    def text(self) -> DiscText | None:
        """What a player with CD-Text shows; None for a disc without, or with packs that it cannot read."""
        try:
            return fullest_text(self.contents.text) if self.contents.text else None
        except DiscError:
            return None

    def span_of(self, part: str) -> Span:
        """Where a part lies: a track by its number, from its index 1 up to the next one's; HIDDEN; or "seam-" and a
        number, the end of the track before and the beginning of that one. Raises DiscError for one there is not."""
        contents = self._disc.contents
        if part == HIDDEN and contents.tracks[0].start_sector:
            return Span(start_sector=0, end_sector=contents.tracks[0].start_sector)
        found = re.fullmatch(r"(seam-)?([1-9][0-9]?)", part)
        number = int(found[2]) if found else 0
        if found is None or number > len(contents.tracks) or (found[1] and number == 1):
            raise DiscError(f"There is no track {part} on this disc.")
        track, end = contents.tracks[number - 1], contents.end_of(number - 1)
        if not found[1]:
            return Span(start_sector=track.start_sector, end_sector=end)
        earlier = contents.tracks[number - 2].start_sector
        first = max(earlier, track.start_sector - track.gap_sectors - _SEAM_SECTORS)
        return Span(start_sector=first, end_sector=min(end, track.start_sector + _SEAM_SECTORS))

    def piece(self, part: str, start_byte: int, end_byte: int) -> bytes:
        """Some of a part's samples as the player gives them."""
        span = self.span_of(part)
        first, last = start_byte // BYTES_PER_SECTOR, -(-end_byte // BYTES_PER_SECTOR)
        sectors = self._heard(span.start_sector + first, last - first)
        return sectors[start_byte - first * BYTES_PER_SECTOR : end_byte - first * BYTES_PER_SECTOR]

    def _heard(self, start: int, count: int) -> bytes:
        data = bytearray(self._disc.read(start, count))
        for sector in self._unread.intersection(range(start, start + count)):
            at = (sector - start) * BYTES_PER_SECTOR
            data[at : at + BYTES_PER_SECTOR] = bytes(BYTES_PER_SECTOR)
        return bytes(data)

    def play(self, number: int) -> Iterator[NDArray[np.int16]]:
        """The samples from a track's index 1 to the next one's, shaped (samples, 2)."""
        span = self.span_of(str(number))
        at = span.start_sector
        while at < span.end_sector:
            count = min(_BLOCK_SECTORS, span.end_sector - at)
            yield np.frombuffer(self._heard(at, count), dtype="<i2").reshape(-1, CHANNELS)
            at += count
