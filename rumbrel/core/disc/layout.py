"""From tracks to sectors, and whether they fit."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from rumbrel.core.sound.decoding import StreamChoice

from .media import Medium
from .red_book import (
    FIRST_PAUSE_SECTORS,
    MAX_TRACKS,
    MIN_TRACK_SECTORS,
    SAMPLE_RATE,
    SECTORS_PER_SECOND,
    format_msf,
    sectors_for_samples,
)

__all__ = ["DiscLayout", "DiscTrack", "Finding", "Programme", "lay_out", "radius_mm"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Programme:
    """A track to be laid out: where its sound is, how to open it, how long it is in its own samples."""

    path: str
    choice: StreamChoice
    title: str
    performer: str
    samples: int
    sample_rate: int
    lossless: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscTrack:
    """start_sector is the address of index 1; gap_sectors of silence lie before it."""

    number: int
    programme: Programme
    gap_sectors: int
    start_sector: int
    sectors: int

    @property
    def end_sector(self) -> int:
        return self.start_sector + self.sectors

    def as_record(self) -> dict[str, Any]:
        return {
            "number": self.number,
            "title": self.programme.title,
            "performer": self.programme.performer,
            "start_msf": format_msf(self.start_sector),
            "sectors": self.sectors,
            "length_msf": format_msf(self.sectors),
            "gap_sectors": self.gap_sectors,
        }


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """A line of the check against the standard: verdict is passed, doubtful or failed."""

    code: str
    verdict: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscLayout:
    """Tracks at their addresses. The first pause lies before address 0 and takes none of the room."""

    medium: Medium
    tracks: tuple[DiscTrack, ...]

    @property
    def total_sectors(self) -> int:
        return self.tracks[-1].end_sector if self.tracks else 0

    @property
    def free_sectors(self) -> int:
        """Room left; negative when the disc runs over."""
        return self.medium.capacity_sectors - self.total_sectors

    @property
    def fits(self) -> bool:
        return bool(self.tracks) and self.free_sectors >= 0

    @property
    def runs_over_in(self) -> DiscTrack | None:
        """The first track that passes the medium's end."""
        return next((t for t in self.tracks if t.end_sector > self.medium.capacity_sectors), None)

    @property
    def writable(self) -> bool:
        return self.fits and all(finding.verdict != "failed" for finding in self.findings())

    def findings(self) -> tuple[Finding, ...]:
        """The layout against the standard."""
        return tuple(check(self) for check in (_count, _shortest, _pause, _time, _lossy))

    def as_record(self) -> dict[str, Any]:
        return {
            "fits": self.fits,
            "total_sectors": self.total_sectors,
            "free_sectors": self.free_sectors,
            "medium_sectors": self.medium.capacity_sectors,
            "total_msf": format_msf(self.total_sectors),
            "tracks": [track.as_record() for track in self.tracks],
        }


def _finding(code: str, passed: bool, text: str, otherwise: str = "failed") -> Finding:
    return Finding(code=code, verdict="passed" if passed else otherwise, text=text)


def _count(layout: DiscLayout) -> Finding:
    count = len(layout.tracks)
    if not count:
        return _finding("count", False, "there are no tracks yet")
    remedy = "" if count <= MAX_TRACKS else "; split them over two discs"
    return _finding("count", count <= MAX_TRACKS, f"{count} of {MAX_TRACKS} tracks{remedy}")


def _shortest(layout: DiscLayout) -> Finding:
    short = [track for track in layout.tracks if track.sectors < MIN_TRACK_SECTORS]
    if short:
        first = short[0]
        return _finding(
            "shortest",
            False,
            f"track {first.number} lasts {format_msf(first.sectors)}; players need 0:04:00. Leave it out or join it to another",
        )
    least = min((track.sectors for track in layout.tracks), default=MIN_TRACK_SECTORS)
    return _finding("shortest", True, f"every track lasts 4 s or more, the shortest {format_msf(least)}")


def _pause(layout: DiscLayout) -> Finding:
    return _finding("first-pause", True, f"first pause of {FIRST_PAUSE_SECTORS // SECTORS_PER_SECOND} s")


def _time(layout: DiscLayout) -> Finding:
    if layout.free_sectors >= 0:
        return _finding("total", True, f"{format_msf(layout.free_sectors)} free on the {layout.medium.label}")
    track = layout.runs_over_in
    over = format_msf(-layout.free_sectors)
    where = f" in track {track.number}" if track else ""
    return _finding("total", False, f"runs over by {over}{where}; leave out a track or shorten the gaps")


def _lossy(layout: DiscLayout) -> Finding:
    lossy = sum(not track.programme.lossless for track in layout.tracks)
    if not lossy:
        return _finding("lossy", True, "every track comes from a lossless file")
    word = "track comes from a lossy file" if lossy == 1 else "tracks come from lossy files"
    return _finding("lossy", False, f"{lossy} {word}", otherwise="doubtful")


def lay_out(programmes: Sequence[Programme], *, gap_sectors: int, medium: Medium) -> DiscLayout:
    """Place programmes one after another, each padded to a whole sector, with a gap before all but the first."""
    tracks = []
    at = 0
    for number, programme in enumerate(programmes, 1):
        gap = gap_sectors if number > 1 else 0
        sectors = sectors_for_samples(round(programme.samples * SAMPLE_RATE / programme.sample_rate))
        track = DiscTrack(number=number, programme=programme, gap_sectors=gap, start_sector=at + gap, sectors=sectors)
        tracks.append(track)
        at = track.end_sector
    return DiscLayout(medium=medium, tracks=tuple(tracks))


def radius_mm(sector: int, *, velocity_m_s: float = 1.2, pitch_um: float = 1.6) -> float:
    """Where on the disc an address lies: sqrt(r0^2 + pitch x velocity x t / pi), from r0 = 25 mm."""
    seconds = sector / SECTORS_PER_SECOND
    return math.sqrt(25.0**2 + pitch_um * 1e-3 * velocity_m_s * 1e3 * seconds / math.pi)
