"""Proof of a whole disc: every sector from address 0 to the lead-out, the subcode of each, and the CD-Text packs.

What is written is marked region by region (the gap before a track, the track) and sector by sector, so that what reads
back otherwise can be named with its place.
"""

import hashlib
import re
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from .layout import DiscLayout
from .red_book import BYTES_PER_SECTOR, format_msf
from .subcode import SUBCODE_BYTES

__all__ = ["DiscMarks", "MarkMaker", "Region", "WrittenDigests", "digests_beside", "regions_of"]

Marks = NDArray[np.uint32]


@dataclass(frozen=True, slots=True, kw_only=True)
class Region:
    """Sectors of a disc that belong together: a track, or the gap before it."""

    number: int
    in_gap: bool
    start_sector: int
    sectors: int

    @property
    def end_sector(self) -> int:
        return self.start_sector + self.sectors

    @property
    def key(self) -> str:
        return f"{'gap' if self.in_gap else 'track'} {self.number:02d}"

    @property
    def said(self) -> str:
        return f"the gap before track {self.number}" if self.in_gap else f"track {self.number}"


def regions_of(layout: DiscLayout) -> tuple[Region, ...]:
    """Every sector of a disc, in order."""
    found: list[Region] = []
    for track in layout.tracks:
        gap_start = track.start_sector - track.gap_sectors
        if track.gap_sectors:
            found.append(Region(number=track.number, in_gap=True, start_sector=gap_start, sectors=track.gap_sectors))
        found.append(Region(number=track.number, in_gap=False, start_sector=track.start_sector, sectors=track.sectors))
    return tuple(found)


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscMarks:
    """What a disc was written as. digests are BLAKE2b of the sound of each region; sound and subcode hold a CRC-32 of
    each sector, shaped (sectors,). text_digest is that of the packs, "" where there are none."""

    regions: tuple[Region, ...]
    digests: tuple[str, ...]
    sound: Marks
    subcode: Marks
    subcode_digest: str
    text_digest: str

    def digest_lines(self) -> str:
        """For the file beside the image: a digest and what it is of on each line."""
        named = [(digest, region.key) for region, digest in zip(self.regions, self.digests, strict=True)]
        named += [(self.subcode_digest, "subcode")] if self.subcode_digest else []
        named += [(self.text_digest, "cd-text")] if self.text_digest else []
        return "".join(f"{digest}  {name}\n" for digest, name in named)

    def track_digests(self) -> tuple[str, ...]:
        """Of the tracks alone, in their order."""
        return tuple(d for region, d in zip(self.regions, self.digests, strict=True) if not region.in_gap)

    def differences(self, read: "DiscMarks") -> dict[int, tuple[str, ...]]:
        """What of another reading is otherwise, as clauses with their places, by the track it belongs to; 0 for the CD-Text."""
        found: dict[int, list[str]] = {}
        for region, wanted, digest in zip(self.regions, self.digests, read.digests, strict=True):
            if wanted != digest:
                found.setdefault(region.number, []).append(_place(region, region.said, self.sound, read.sound))
            if not np.array_equal(_of(self.subcode, region), _of(read.subcode, region)):
                said = f"the subcode of {region.said}"
                found.setdefault(region.number, []).append(_place(region, said, self.subcode, read.subcode))
        if self.text_digest != read.text_digest:
            found[0] = ["the CD-Text"]
        return {number: tuple(said) for number, said in found.items()}


def _of(marks: Marks, region: Region) -> Marks:
    return marks[region.start_sector : region.end_sector]


def _place(region: Region, said: str, wanted: Marks, read: Marks) -> str:
    """Where in a region the first of what differs lies, and how many sectors do."""
    one, other = _of(wanted, region), _of(read, region)
    # A reading that ends before has no marks there.
    other = np.pad(other, (0, len(one) - len(other)))
    places = np.flatnonzero(one != other)
    if not len(places):
        return said
    count = "1 sector" if len(places) == 1 else f"{len(places):,} sectors"
    return f"{said} at {format_msf(region.start_sector + int(places[0]))} (m:s:f, {count})"


@dataclass(slots=True)
class MarkMaker:
    """Push the bytes of a disc from address 0 to the lead-out, in whatever blocks, and its subcode likewise."""

    regions: Sequence[Region]
    _digests: list["hashlib.blake2b"] = field(default_factory=list)
    _at_byte: int = 0
    _held: bytes = b""
    _sound: list[int] = field(default_factory=list)
    _subcode: list[int] = field(default_factory=list)
    _subcode_digest: "hashlib.blake2b" = field(default_factory=lambda: hashlib.blake2b(digest_size=32))
    _region: int = 0

    def __post_init__(self) -> None:
        self._digests = [hashlib.blake2b(digest_size=32) for _ in self.regions]

    def push_sound(self, data: bytes | memoryview) -> None:
        view = memoryview(data).cast("B")
        self._mark_sectors(view)
        while len(view) and self._region < len(self.regions):
            room = self.regions[self._region].end_sector * BYTES_PER_SECTOR - self._at_byte
            part = view[:room]
            self._digests[self._region].update(part)
            self._at_byte += len(part)
            view = view[len(part) :]
            if len(part) == room:
                self._region += 1

    def _mark_sectors(self, view: memoryview) -> None:
        if self._held:
            need = BYTES_PER_SECTOR - len(self._held)
            self._held += bytes(view[:need])
            view = view[need:]
            if len(self._held) < BYTES_PER_SECTOR:
                return
            self._sound.append(zlib.crc32(self._held))
        whole = len(view) // BYTES_PER_SECTOR * BYTES_PER_SECTOR
        self._sound += [zlib.crc32(view[at : at + BYTES_PER_SECTOR]) for at in range(0, whole, BYTES_PER_SECTOR)]
        self._held = bytes(view[whole:])

    def push_subcode(self, block: bytes) -> None:
        """Whole sectors of it."""
        self._subcode_digest.update(block)
        self._subcode += [zlib.crc32(block[at : at + SUBCODE_BYTES]) for at in range(0, len(block), SUBCODE_BYTES)]

    def marks(self, *, packs: bytes) -> DiscMarks:
        return DiscMarks(
            regions=tuple(self.regions), digests=tuple(digest.hexdigest() for digest in self._digests),
            sound=np.array(self._sound, np.uint32), subcode=np.array(self._subcode, np.uint32),
            subcode_digest=self._subcode_digest.hexdigest() if self._subcode else "",
            text_digest=hashlib.blake2b(packs, digest_size=32).hexdigest() if packs else "",
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class WrittenDigests:
    """The digests that lie beside an image since it was written, by what they are of: "track 01", "gap 02", "subcode",
    "cd-text"."""

    by_name: Mapping[str, str] = field(default_factory=dict)

    def of(self, region: Region) -> str:
        return self.by_name.get(region.key, "")

    def of_track(self, number: int) -> str:
        """Of what is read as a track, without the gap behind it; of number 0 that is what lies before track 1. "" where
        nothing is known of it."""
        return self.by_name.get(f"track {number:02d}" if number else "gap 01", "")

    def of_gap_before(self, number: int) -> str:
        return self.by_name.get(f"gap {number:02d}", "")


def digests_beside(image: Path) -> WrittenDigests:
    """Those in the file beside an image or its sheet; none where there is none."""
    try:
        lines = image.with_suffix(".digests").read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        return WrittenDigests()
    found = (re.fullmatch(r"([0-9a-f]{64})  (track \d{2}|gap \d{2}|subcode|cd-text)", line.strip()) for line in lines)
    return WrittenDigests(by_name={match[2]: match[1] for match in found if match})
