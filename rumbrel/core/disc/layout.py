"""From tracks to sectors, and whether they fit."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from rumbrel.core.sound.decoding import StreamChoice
from rumbrel.core.sound.dither import FLAT

from .media import Medium
from .red_book import (
    FIRST_PAUSE_SECTORS,
    SAMPLE_RATE,
    SAMPLES_PER_SECTOR,
    SECTORS_PER_SECOND,
    format_msf,
    sectors_for_samples,
)

__all__ = ["DiscLayout", "DiscTrack", "Programme", "laid_out_again", "lay_out", "radius_mm", "taken"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Programme:
    """A track to be laid out: where its sound is, how to open it, and what the disc says of it.

    samples and start_sample count in the source's own rate. runs_on says that it follows the one
    before without a break, index_samples are marks inside it. gap_sectors is its own gap, None for
    the disc's. lead is sound that lies in that gap, right before the track; postgap_sectors of silence after the track
    belong to it. state is what measuring found: "", "silent", "mono", "clipped" (in its file, at any level), or None
    where it was not measured; over_db is how far beyond full scale its gain takes its peaks, which are limited there. listed_as is what a list named where another file was taken for it.
    """

    path: str
    choice: StreamChoice
    title: str
    performer: str
    samples: int
    sample_rate: int
    channels: int = 2
    lossless: bool = True
    start_sample: int = 0
    gain_db: float = 0.0
    songwriter: str = ""
    composer: str = ""
    arranger: str = ""
    message: str = ""
    album: str = ""
    isrc: str = ""
    pre_emphasis: bool = False
    copy_permitted: bool = False
    gap_sectors: int | None = None
    lead: "Programme | None" = None
    postgap_sectors: int = 0
    index_samples: tuple[int, ...] = ()
    runs_on: bool = False
    state: str | None = None
    over_db: float = 0.0
    number: int = 0
    listed_as: str = ""

    @property
    def disc_samples(self) -> int:
        """Samples at the disc's rate."""
        return round(self.samples * SAMPLE_RATE / self.sample_rate)


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscTrack:
    """start_sector is the address of index 1; gap_sectors lie before it, silence but for the last lead_sectors.

    What its programme leaves of its last sector is silence, unless the next one runs on: then the
    next one's first samples fill it. index_sectors are the addresses of index 2 and on.
    """

    number: int
    programme: Programme
    gap_sectors: int
    start_sector: int
    sectors: int
    runs_on: bool = False
    index_sectors: tuple[int, ...] = ()
    lead_sectors: int = 0

    @property
    def silence_sectors(self) -> int:
        """What of its gap is silence, which can be longer or shorter."""
        return self.gap_sectors - self.lead_sectors

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
            "runs_on": self.runs_on,
            "gain_db": round(self.programme.gain_db, 2),
            "isrc": self.programme.isrc or None,
        }


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscLayout:
    """Tracks at their addresses. The first pause lies before address 0 and takes none of the room.

    hidden is sound that lies before track 1, in its gap. gap_sectors is what goes between tracks without a gap of
    their own. dither is one of DITHERS, for sound that is not of 16 bit.
    """

    medium: Medium
    tracks: tuple[DiscTrack, ...]
    hidden: Programme | None = None
    gap_sectors: int = 0
    first_pause_sectors: int = FIRST_PAUSE_SECTORS
    dither: str = FLAT

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
    def runs_over_at(self) -> int | None:
        """Sectors into that track at which the medium ends; 0 where it ends in the gap before it."""
        track = self.runs_over_in
        return None if track is None else max(0, self.medium.capacity_sectors - track.start_sector)

    def as_record(self) -> dict[str, Any]:
        over, at = self.runs_over_in, self.runs_over_at
        return {
            "fits": self.fits,
            "total_sectors": self.total_sectors,
            "free_sectors": self.free_sectors,
            "medium_sectors": self.medium.capacity_sectors,
            "total_msf": format_msf(self.total_sectors),
            "runs_over_in": over.number if over else None,
            "runs_over_at_msf": format_msf(at) if at is not None else None,
            "tracks": [{**track.as_record(), **self.place_of(track)} for track in self.tracks],
        }

    def place_of(self, track: DiscTrack) -> dict[str, float]:
        """Where a track lies on the physical disc, from and to a radius in mm."""
        pitch = self.medium.pitch_um
        return {
            "from_mm": round(radius_mm(track.start_sector, pitch_um=pitch), 2),
            "to_mm": round(radius_mm(track.end_sector, pitch_um=pitch), 2),
        }


def lay_out(
    programmes: Sequence[Programme],
    *,
    gap_sectors: int,
    medium: Medium,
    first_pause_sectors: int = FIRST_PAUSE_SECTORS,
    hidden: Programme | None = None,
    dither: str = FLAT,
) -> DiscLayout:
    """Place programmes one after another.

    gap_sectors goes between tracks that have no gap of their own and do not run on;
    first_pause_sectors counts the 150 before address 0 that every disc has.

    A track is padded with silence to a whole sector, unless the next one runs on: then the unbroken
    stream of samples is cut at the sector in which the next one begins, so that nothing is put
    into the join (IEC 60908 knows no shorter unit than a sector). The lead of the first track is hidden sound, unless
    there is another.
    """
    hidden = hidden or (programmes[0].lead if programmes else None)
    at = max(0, first_pause_sectors - FIRST_PAUSE_SECTORS)
    if hidden is not None:
        at += sectors_for_samples(hidden.disc_samples)
    tracks: list[DiscTrack] = []
    for run in _runs(programmes):
        placed = _placed_run(run, at, len(tracks), gap_sectors)
        tracks += placed
        at = placed[-1].end_sector
    return DiscLayout(
        medium=medium, tracks=tuple(tracks), hidden=hidden, gap_sectors=gap_sectors,
        first_pause_sectors=first_pause_sectors, dither=dither,
    )  # fmt: skip


def taken(programmes: Sequence[Programme], positions: Sequence[int]) -> list[Programme]:
    """Some of the programmes in this order: what stands behind another than before does not run on, and sound in the
    gap of a track that comes first now belonged to the one before it."""
    chosen = []
    for number, position in enumerate(positions):
        programme = programmes[position]
        follows = number > 0 and positions[number - 1] == position - 1
        if programme.runs_on and not follows:
            programme = replace(programme, runs_on=False)
        if programme.lead is not None and not number and position:
            programme = replace(programme, lead=None)
        chosen.append(programme)
    return chosen


def laid_out_again(layout: DiscLayout, positions: Sequence[int], *, later: bool = False) -> DiscLayout:
    """Some of the tracks of a layout, laid out on the same medium. later says that it is not the first of several discs:
    hidden sound and a longer first pause stay with that."""
    own_lead = layout.tracks[0].programme.lead if layout.tracks else None
    hidden = None if later or layout.hidden == own_lead else layout.hidden
    return lay_out(
        taken([track.programme for track in layout.tracks], positions), gap_sectors=layout.gap_sectors,
        medium=layout.medium, hidden=hidden, dither=layout.dither,
        first_pause_sectors=FIRST_PAUSE_SECTORS if later else layout.first_pause_sectors,
    )  # fmt: skip


def _runs(programmes: Sequence[Programme]) -> list[list[Programme]]:
    """Programmes in stretches that run on within: through one conversion and with one gain, which others cannot."""
    runs: list[list[Programme]] = []
    for programme in programmes:
        if runs and programme.runs_on and _shape(programme) == _shape(runs[-1][-1]):
            runs[-1].append(programme)
        else:
            runs.append([replace(programme, runs_on=False) if programme.runs_on else programme])
    return runs


def _shape(programme: Programme) -> tuple[int, int, float]:
    return programme.sample_rate, programme.channels, programme.gain_db


def _placed_run(run: list[Programme], at: int, placed: int, gap_sectors: int) -> list[DiscTrack]:
    first = run[0]
    own = first.gap_sectors if first.gap_sectors is not None else gap_sectors
    # The first track's gap is what lies before it already: a longer first pause, or hidden sound.
    silence = own if placed else at
    base = at + silence if placed else at
    pieces = [
        (position, piece) for position, programme in enumerate(run)
        for piece in (programme.lead if placed or position else None, programme) if piece is not None
    ]  # fmt: skip
    edges = _edges([piece for _, piece in pieces])
    tracks, lead_sectors = [], 0
    for (position, programme), begin, end in zip(pieces, edges[:-1], edges[1:], strict=True):
        if programme is not run[position]:
            lead_sectors = end - begin
            continue
        begin, end = base + begin, base + end + (programme.postgap_sectors if position == len(run) - 1 else 0)
        marks = tuple(
            begin + round(mark * SAMPLE_RATE / programme.sample_rate) // SAMPLES_PER_SECTOR
            for mark in programme.index_samples
        )
        tracks.append(
            DiscTrack(
                number=placed + position + 1, programme=programme, start_sector=begin, sectors=end - begin,
                gap_sectors=(0 if position else silence) + lead_sectors, lead_sectors=lead_sectors,
                runs_on=programme.runs_on, index_sectors=tuple(mark for mark in marks if begin < mark < end),
            )
        )  # fmt: skip
        lead_sectors = 0
    return tracks


def _edges(pieces: list[Programme]) -> list[int]:
    """Sectors, from the run's beginning, at which its pieces begin, and where the run ends."""
    edges, source_samples = [0], 0
    for position, programme in enumerate(pieces):
        source_samples += programme.samples
        # One conversion of rate for the whole run: lengths are rounded once, not track by track.
        samples = round(source_samples * SAMPLE_RATE / programme.sample_rate)
        last = position == len(pieces) - 1
        edges.append(sectors_for_samples(samples) if last else samples // SAMPLES_PER_SECTOR)
    return edges


def radius_mm(sector: int, *, velocity_m_s: float = 1.2, pitch_um: float = 1.6) -> float:
    """Where on the disc an address lies: sqrt(r0^2 + pitch x velocity x t / pi), from r0 = 25 mm."""
    seconds = sector / SECTORS_PER_SECOND
    return math.sqrt(25.0**2 + pitch_um * 1e-3 * velocity_m_s * 1e3 * seconds / math.pi)
