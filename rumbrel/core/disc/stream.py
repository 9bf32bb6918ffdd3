"""The samples of a disc as one stream, from address 0 to the lead-out, track by track."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rumbrel.core.errors import DecodeError
from rumbrel.core.sound.second_reader import open_twice_read
from rumbrel.core.sound.shape import BLOCK_SAMPLES, Block, SoundShape
from rumbrel.core.sound.stages import Cut, Treatment, build_chain

from .layout import DiscLayout, DiscTrack, Programme
from .red_book import CHANNELS, DEPTH_BITS, SAMPLE_RATE, SAMPLES_PER_SECTOR

__all__ = ["DISC_SHAPE", "Limited", "Part", "disc_stream"]

DISC_SHAPE = SoundShape(sample_rate=SAMPLE_RATE, channels=CHANNELS, depth_bits=DEPTH_BITS)
_TOLERATED_SAMPLES = SAMPLE_RATE + SAMPLES_PER_SECTOR
"""What a source may lack against its header; silence of a whole missing track would be a lie."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """Samples shaped (samples, 2), int16, that lie on the disc after what came before.

    in_gap says that they are the pause before the track and not the track.
    """

    track: DiscTrack
    in_gap: bool
    block: Block


@dataclass(frozen=True, slots=True, kw_only=True)
class Limited:
    """What of a track, or of a run of tracks that begins with it, went beyond full scale and was limited."""

    track: int
    values: int
    over_db: float

    @property
    def said(self) -> str:
        return (
            f"Track {self.track}: {self.values:,} sample values up to {self.over_db:.1f} dB beyond full scale were "
            "limited. Lower its level to keep them."
        )


def _blocks(run: list[Programme], dither: str, told: Callable[[int, float], None]) -> Iterator[Block]:
    """The unbroken stream of programmes that run on, through one conversion, as the disc holds it. told hears
    how many values were limited and how far they went."""
    chain = None
    for programme in run:
        whole_samples = programme.start_sample + programme.samples
        with open_twice_read(Path(programme.path), programme.choice, whole_samples) as sound:
            if chain is None:
                treatment = Treatment(gain_db=programme.gain_db, dither=dither)
                chain = build_chain(sound.shape, DISC_SHAPE, treatment)
                shape = sound.shape
            elif (sound.shape.sample_rate, sound.shape.channels) != (shape.sample_rate, shape.channels):
                name = Path(programme.path).name
                raise DecodeError(f"{name} cannot run on: it has another sample rate or other channels.")
            cut = Cut(programme.start_sample, programme.start_sample + programme.samples)
            left = programme.samples
            for block in sound.blocks():
                part = cut.push(block)
                left -= len(part)
                if len(part):
                    yield chain.push(part)
                if not left:
                    break
            sound.prove()
            if left > _TOLERATED_SAMPLES:
                name = Path(programme.path).name
                raise DecodeError(f"{name} ended early. Scan it again, then lay the disc out again.")
            if left:
                yield chain.push(np.zeros((left, shape.channels), dtype=shape.dtype))
    if chain is not None:
        yield from chain.finish()
        told(chain.clipped_values, chain.over_db)


def _exactly(blocks: Iterator[Block], samples: int) -> Iterator[Block]:
    """So many samples: cut, or filled up with silence."""
    left = samples
    for block in blocks:
        block = block[:left]
        left -= len(block)
        if len(block):
            yield block
    # What is left over is drained, so that the account of the whole stream is told.
    yield from _silence(left)


def _silence(samples: int) -> Iterator[Block]:
    while samples > 0:
        count = min(samples, BLOCK_SAMPLES)
        yield np.zeros((count, CHANNELS), dtype=np.int16)
        samples -= count


def disc_stream(layout: DiscLayout, *, limited: Callable[[Limited], None] = lambda found: None) -> Iterator[Part]:
    """Every sample of the disc in order; limited is told of what had to be. Raises DecodeError for a source."""
    tracks = list(layout.tracks)
    while tracks:
        run = [tracks.pop(0)]
        while tracks and tracks[0].runs_on:
            run.append(tracks.pop(0))
        first = run[0].number

        def told(values: int, over_db: float, first: int = first) -> None:
            if values:
                limited(Limited(track=first, values=values, over_db=over_db))

        yield from _gap(layout, run[0], told)
        yield from _run(run, layout.dither, told)


def _gap(layout: DiscLayout, track: DiscTrack, told: Callable[[int, float], None]) -> Iterator[Part]:
    """The silence before a track, or the sound that is hidden before the first."""
    samples = track.silence_sectors * SAMPLES_PER_SECTOR
    hidden = layout.hidden if track.number == 1 else None
    blocks = _silence(samples) if hidden is None else _exactly(_blocks([hidden], layout.dither, told), samples)
    for block in blocks:
        yield Part(track=track, in_gap=True, block=block)


def _run(run: list[DiscTrack], dither: str, told: Callable[[int, float], None]) -> Iterator[Part]:
    """One stream, cut at the addresses of its tracks and of the sound in their gaps."""
    pieces: list[tuple[DiscTrack, bool, int]] = []
    programmes: list[Programme] = []
    for track in run:
        if track.lead_sectors and track.programme.lead is not None:
            pieces.append((track, True, track.lead_sectors * SAMPLES_PER_SECTOR))
            programmes.append(track.programme.lead)
        pieces.append((track, False, track.sectors * SAMPLES_PER_SECTOR))
        programmes.append(track.programme)
    position, left = 0, pieces[0][2]
    for block in _exactly(_blocks(programmes, dither, told), sum(samples for _, _, samples in pieces)):
        while len(block):
            piece, block = block[:left], block[left:]
            left -= len(piece)
            yield Part(track=pieces[position][0], in_gap=pieces[position][1], block=piece)
            if not left and position + 1 < len(pieces):
                position += 1
                left = pieces[position][2]
