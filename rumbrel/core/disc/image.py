"""Write a layout as BIN with a cue sheet, and read it back."""

import errno
import hashlib
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np

from rumbrel.core.errors import DecodeError, DiscError, OutputError
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.shape import Block, SoundShape
from rumbrel.core.sound.stages import Treatment, build_chain

from .cue_sheet import cue_sheet, parse_cue_sheet
from .layout import DiscLayout, DiscTrack
from .red_book import BYTES_PER_SECTOR, CHANNELS, DEPTH_BITS, SAMPLE_RATE, SAMPLES_PER_SECTOR

__all__ = ["DiscImage", "TrackVerdict", "read_back", "write_image"]

DISC_SHAPE = SoundShape(sample_rate=SAMPLE_RATE, channels=CHANNELS, depth_bits=DEPTH_BITS)
_READ_SECTORS = 750


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscImage:
    """A finished image. track_digests are SHA-256 of each track's sectors, without its gap."""

    bin_path: Path
    cue_path: Path
    track_digests: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackVerdict:
    """Whether a track reads back as it was written."""

    number: int
    sectors: int
    equal: bool


Report = Callable[[int], None]
"""Called with the number of sectors done; may raise Cancelled."""


def _track_blocks(track: DiscTrack) -> Iterator[Block]:
    """The track's samples as the disc holds them, cut or padded with silence to its sectors."""
    left = track.sectors * SAMPLES_PER_SECTOR
    programme = track.programme
    with open_sound(Path(programme.path), programme.choice) as sound:
        chain = build_chain(sound.shape, DISC_SHAPE, Treatment())

        def shaped() -> Iterator[Block]:
            for block in sound.blocks():
                yield chain.push(block)
            yield from chain.finish()

        for block in shaped():
            block = block[:left]
            left -= len(block)
            yield block
    # Silence of a whole missing track would be a lie; less than a second is an inexact header.
    if left > SAMPLE_RATE + SAMPLES_PER_SECTOR:
        raise DecodeError(f"{Path(programme.path).name} ended early. Scan it again, then lay the disc out anew.")
    yield np.zeros((left, CHANNELS), dtype=np.int16)


def _no_report(sectors: int) -> None:
    return None


def write_image(layout: DiscLayout, folder: Path, name: str, *, report: Report = _no_report) -> DiscImage:
    """Write NAME.bin and NAME.cue, whole or not at all.

    Raises DiscError when the layout may not be written, OutputError for the place, DecodeError for
    a source.
    """
    failed = [finding for finding in layout.findings() if finding.verdict == "failed"]
    if failed:
        raise DiscError(f"The disc cannot be written: {failed[0].text}.")
    image = folder / f"{name}.bin"
    sheet = folder / f"{name}.cue"
    working = folder / f".rumbrel-{name}.bin.part"
    working_sheet = folder / f".rumbrel-{name}.cue.part"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with working.open("wb") as file:
            digests = tuple(_write_track(track, file, report) for track in layout.tracks)
            os.fsync(file.fileno())
        working_sheet.write_text(cue_sheet(layout, image.name, name), encoding="utf-8")
        working.replace(image)
        working_sheet.replace(sheet)
    except OSError as error:
        reason = "there is no room left" if error.errno == errno.ENOSPC else error.strerror
        raise OutputError(f"The image could not be written to {folder}: {reason}.") from error
    finally:
        working.unlink(missing_ok=True)
        working_sheet.unlink(missing_ok=True)
    return DiscImage(bin_path=image, cue_path=sheet, track_digests=digests)


def _write_track(track: DiscTrack, file: BinaryIO, report: Report) -> str:
    file.write(bytes(track.gap_sectors * BYTES_PER_SECTOR))
    digest = hashlib.sha256()
    start = track.start_sector * BYTES_PER_SECTOR
    for block in _track_blocks(track):
        data = block.astype("<i2", copy=False).tobytes()
        digest.update(data)
        file.write(data)
        report(file.tell() // BYTES_PER_SECTOR)
    if file.tell() != start + track.sectors * BYTES_PER_SECTOR:
        raise DiscError(f"Track {track.number} does not end on its sector.")
    return digest.hexdigest()


def read_back(image: DiscImage, *, report: Report = _no_report) -> tuple[TrackVerdict, ...]:
    """Read the image through its cue sheet and compare every track with what was written."""
    try:
        name, tracks = parse_cue_sheet(image.cue_path.read_text(encoding="utf-8"))
        path = image.cue_path.with_name(name)
        end = path.stat().st_size // BYTES_PER_SECTOR
        verdicts = []
        with path.open("rb") as file:
            for position, track in enumerate(tracks):
                later = tracks[position + 1] if position + 1 < len(tracks) else None
                stop = end if later is None else later.start_sector if later.gap_sector is None else later.gap_sector
                digest = _digest_sectors(file, track.start_sector, stop, report)
                wanted = image.track_digests[position] if position < len(image.track_digests) else ""
                sectors = stop - track.start_sector
                verdicts.append(TrackVerdict(number=track.number, sectors=sectors, equal=digest == wanted))
    except OSError as error:
        raise DiscError(f"The image cannot be read back: {error.strerror}.") from error
    if len(tracks) != len(image.track_digests):
        raise DiscError("The image does not hold as many tracks as were written.")
    return tuple(verdicts)


def _digest_sectors(file: BinaryIO, start: int, stop: int, report: Report) -> str:
    digest = hashlib.sha256()
    file.seek(start * BYTES_PER_SECTOR)
    at = start
    while at < stop:
        count = min(_READ_SECTORS, stop - at)
        digest.update(file.read(count * BYTES_PER_SECTOR))
        at += count
        report(at)
    return digest.hexdigest()
