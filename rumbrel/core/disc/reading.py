"""Reading discs with proof: twice and compared, again where reads differ, slower where errors appear."""

import hashlib
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any, Protocol

from rumbrel.core.errors import DiscError
from rumbrel.core.verdict import Verdict

from .proof import WrittenDigests
from .red_book import BYTES_PER_SECTOR, CHANNELS, format_msf
from .text import DiscText, TrackText

__all__ = [
    "Contents",
    "ContentsTrack",
    "DiscDrive",
    "SectorUnread",
    "TrackReading",
    "contents_digest",
    "read_track",
    "with_hidden",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class ContentsTrack:
    """An entry of a disc's contents table: where index 1 of a track lies; and what its subcode says beside that, its
    ISRC, the gap before it and where index 2 and the others lie."""

    number: int
    start_sector: int
    pre_emphasis: bool = False
    copy_permitted: bool = False
    isrc: str = ""
    gap_sectors: int = 0
    index_sectors: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Contents:
    """What a disc's lead-in states. text is the raw packs of its CD-Text, b"" where it has none. said is what the sheet
    of an image says, which no real disc has."""

    tracks: tuple[ContentsTrack, ...]
    lead_out_sector: int
    text: bytes = b""
    product_code: str = ""
    said: DiscText | None = None

    def end_of(self, position: int) -> int:
        """Where a track ends as the table shows it: the next one's start, gap and all."""
        later = self.tracks[position + 1 :]
        return later[0].start_sector if later else self.lead_out_sector


def with_hidden(contents: Contents) -> Contents:
    """The same with what lies before track 1 as a track 0 of its own. Raises DiscError where nothing lies there."""
    first = contents.tracks[0]
    if not first.start_sector:
        raise DiscError("No sound lies before track 1 of this disc.")
    hidden = ContentsTrack(
        number=0, start_sector=0, pre_emphasis=first.pre_emphasis, copy_permitted=first.copy_permitted
    )
    said = contents.said and replace(contents.said, tracks=(TrackText(), *contents.said.tracks))
    return replace(contents, tracks=(hidden, *contents.tracks), said=said)


def contents_digest(contents: Contents) -> str:
    """What tells a disc by its contents table: the starts of its tracks and its lead-out."""
    edges = [track.start_sector for track in contents.tracks] + [contents.lead_out_sector]
    return hashlib.blake2b(" ".join(map(str, edges)).encode(), digest_size=10).hexdigest()


class SectorUnread(DiscError):
    """A drive could not read a sector, at least not this time."""


class DiscDrive(Protocol):
    """A drive with a disc in it. offset_samples is how late it delivers samples; overreads says that it reads
    sectors before the first and behind the last one, so that its offset costs nothing; speeds, slowest first."""

    offset_samples: int
    overreads: bool
    speeds: tuple[int, ...]

    def contents(self) -> Contents: ...

    def read_sectors(self, start: int, count: int, *, speed: int) -> bytes:
        """The bytes of sectors, as the drive delivers them. Raises SectorUnread."""
        ...


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackReading:
    """How a track was read: passed says that two reads agree throughout, doubtful that some sectors
    agree only after more reads, failed that some could not be read, and are silence. unreached_samples lie
    beyond the disc's edges for a drive with an offset, and are silence too, which makes a track doubtful.

    reread and failed are addresses of sectors; slowest_speed is the slowest the drive had to go. as_written says whether
    it and the gap behind it are what digests beside an image say they were when they were written, None where there are
    none; where they are not, the image is another one, and the track doubtful. differs names what is not.
    """

    number: int
    start_sector: int
    sectors: int
    verdict: Verdict
    digest: str
    reread: tuple[int, ...]
    failed: tuple[int, ...]
    slowest_speed: int
    unreached_samples: int = 0
    as_written: bool | None = None
    differs: str = ""

    def as_record(self) -> dict[str, Any]:
        return {
            "number": self.number,
            "start_msf": format_msf(self.start_sector),
            "sectors": self.sectors,
            "verdict": str(self.verdict),
            "digest": self.digest,
            "reread": [format_msf(sector) for sector in self.reread],
            "failed": [format_msf(sector) for sector in self.failed],
            "slowest_speed": self.slowest_speed,
            "unreached_samples": self.unreached_samples,
            "as_written": self.as_written,
            "differs": self.differs or None,
        }


_BLOCK_SECTORS = 150
_MOST_READS = 24
_AGREEING_READS = 4
"""A sector whose reads differ counts as read when so many agree, and twice as many as on any other reading."""


class _Reader:
    """Reads sectors so that two reads agree, and keeps account of what that took."""

    def __init__(self, drive: DiscDrive) -> None:
        self._drive = drive
        self._place = len(drive.speeds) - 1
        self.slowest = drive.speeds[-1]
        self.reread: list[int] = []
        self.failed: list[int] = []

    @property
    def _speed(self) -> int:
        return self._drive.speeds[self._place]

    def _slow_down(self) -> None:
        self._place = max(0, self._place - 1)
        self.slowest = min(self.slowest, self._speed)

    def block(self, start: int, count: int) -> bytes:
        """Sectors read twice as a block; where the reads differ, sector by sector."""
        first, second = self._try(start, count), self._try(start, count)
        if first is not None and first == second:
            return first
        self._slow_down()
        data = b"".join(self._sector(sector) for sector in range(start, start + count))
        self._place = len(self._drive.speeds) - 1
        return data

    def _try(self, start: int, count: int) -> bytes | None:
        try:
            return self._drive.read_sectors(start, count, speed=self._speed)
        except SectorUnread:
            return None

    def _sector(self, sector: int) -> bytes:
        reads: Counter[bytes] = Counter()
        for total in range(1, _MOST_READS + 1):
            data = self._try(sector, 1)
            if data is not None:
                reads[data] += 1
                (best, votes), (_, others) = (*reads.most_common(2), (b"", 0))[:2]
                if (votes == 2 and total == 2) or (votes >= _AGREEING_READS and votes >= 2 * others):
                    if total > 2:
                        self.reread.append(sector)
                    return best
            if total % 4 == 0:
                self._slow_down()
        self.failed.append(sector)
        return bytes(BYTES_PER_SECTOR)


def read_track(
    drive: DiscDrive,
    contents: Contents,
    position: int,
    *,
    progress: Callable[[int], None] = lambda sectors: None,
    written: WrittenDigests | None = None,
) -> tuple[Iterator[bytes], Callable[[], TrackReading]]:
    """(the track's samples in blocks of bytes, and what to call afterwards for the account of it). written are the digests
    that lie beside an image: the track is held against its own, and the gap behind it against that of the next.

    A drive that delivers late is read further by that much, so that the track begins on its first sample.
    """
    track = contents.tracks[position]
    start, end = track.start_sector, contents.end_of(position)
    reader, digest = _Reader(drive), hashlib.blake2b(digest_size=32)
    later = contents.tracks[position + 1 :]
    alone, gap = hashlib.blake2b(digest_size=32), hashlib.blake2b(digest_size=32)
    left = (end - start - (later[0].gap_sectors if later and track.number else 0)) * BYTES_PER_SECTOR

    def blocks() -> Iterator[bytes]:
        nonlocal left
        for block in _offset_blocks(reader, drive, start, end, contents.lead_out_sector):
            digest.update(block)
            alone.update(block[: max(0, left)])
            gap.update(block[max(0, left) :])
            left -= len(block)
            progress(len(block) // BYTES_PER_SECTOR)
            yield block

    def account() -> TrackReading:
        unreached = _unreached_samples(drive, start, end, contents.lead_out_sector)
        # Where not all of it was read, that says why it differs.
        known = written.of_track(track.number) if written and not (reader.failed or unreached) else ""
        behind = written.of_gap_before(later[0].number) if known and written and later and track.number else ""
        wrong = ["the track"] if known and alone.hexdigest() != known else []
        wrong += ["the gap behind it"] if behind and gap.hexdigest() != behind else []
        same = None if not known else not wrong
        doubtful = reader.reread or unreached or wrong
        verdict = Verdict.FAILED if reader.failed else Verdict.DOUBTFUL if doubtful else Verdict.PASSED
        return TrackReading(
            number=track.number, start_sector=start, sectors=end - start, verdict=verdict, digest=digest.hexdigest(),
            reread=tuple(reader.reread), failed=tuple(reader.failed), slowest_speed=reader.slowest,
            unreached_samples=unreached, as_written=same, differs=" and ".join(wrong),
        )  # fmt: skip

    return blocks(), account


def _unreached_samples(drive: DiscDrive, start: int, end: int, lead_out: int) -> int:
    """How many samples of a stretch the drive's offset puts beyond the disc's edges."""
    if drive.overreads:
        return 0
    per_sector = BYTES_PER_SECTOR // (CHANNELS * 2)
    before = -(start * per_sector + drive.offset_samples)
    behind = end * per_sector + drive.offset_samples - lead_out * per_sector
    return max(0, before, behind)


def _offset_blocks(reader: _Reader, drive: DiscDrive, start: int, end: int, lead_out: int) -> Iterator[bytes]:
    """The bytes from a track's first sample to its last. At the disc's ends, what the drive cannot
    reach is silence: at most its offset, and nothing where it overreads."""
    frame = CHANNELS * 2
    shift = drive.offset_samples * frame
    # Byte n of the disc is delivered as byte n + shift.
    first, last = start * BYTES_PER_SECTOR + shift, end * BYTES_PER_SECTOR + shift
    at = first
    while at < last:
        sector = at // BYTES_PER_SECTOR
        stop = min(last, (sector + _BLOCK_SECTORS) * BYTES_PER_SECTOR)
        sectors = range(sector, -(-stop // BYTES_PER_SECTOR))
        readable = [each for each in sectors if drive.overreads or 0 <= each < lead_out]
        before = sum(each < 0 for each in sectors) if not drive.overreads else 0
        data = bytes(before * BYTES_PER_SECTOR)
        if readable:
            data += reader.block(readable[0], len(readable))
        data = data.ljust(len(sectors) * BYTES_PER_SECTOR, b"\0")
        yield data[at - sector * BYTES_PER_SECTOR : stop - sector * BYTES_PER_SECTOR]
        at = stop
