"""What one pass over the samples tells of a recording's state: clipping, silence, channels, spectrum."""

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from .level import as_float, channel_peaks
from .shape import Block, SoundShape

__all__ = ["SILENCE_DBFS", "Ends", "EndsFinder", "SpectralEdge", "State", "StateMeter"]

SILENCE_DBFS = -60.0
"""What counts as silence at the ends of a track (common practice; tape hiss lies below it)."""
_SILENCE = 10 ** (SILENCE_DBFS / 20)
_CLIPPED_RUN_SAMPLES = 3
"""So many equal samples at full scale in a row count as clipped; fewer are peaks (common practice)."""
_DEAD_CHANNEL = 10 ** (-90 / 20)
"""Below it a channel holds nothing but the dither of 16 bit, whose floor is at -96 dB (common practice)."""
_FFT_SAMPLES = 4096
_BAND_HZ = 150.0
_CLIFF_DB = 22.0
_LOWEST_EDGE_HZ = 9_000.0
"""A fall of so many dB from one band to the next, above so many Hz, is a filter's edge and not music: found by what
lossy encoders and rate converters leave (our own measurement; see the tests of the deep look)."""
_TELLING_NYQUISTS_HZ = (22_050, 24_000, 44_100, 48_000)
"""Half of the rates from which an edge shows that a sound was raised. Lower ones are left out: radio, cutting lathes and
lossy codings end at 15 or 16 kHz, speech lines lower, and an edge there looks like that of a rate converter."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Ends:
    """Samples of silence before the first and after the last sound; all of them for a silent stream."""

    leading_samples: int
    trailing_samples: int


_LOOKED_AT_SAMPLES = 2048


def _loud(values: NDArray[np.float64]) -> NDArray[np.intp]:
    """Samples above the threshold in any channel."""
    # All channels in one row: reducing over so short an axis as theirs takes ten times as long.
    return np.asarray(np.flatnonzero(np.abs(values).reshape(-1) > _SILENCE) // values.shape[1])


class EndsFinder:
    """Finds the first and the last sample above the threshold of silence."""

    def __init__(self) -> None:
        self._at = 0
        self._first: int | None = None
        self._last = 0

    def push(self, block: Block) -> None:
        # From the end, where music mostly goes on: little of a block is looked at then.
        values = as_float(block)
        for stop in range(len(values), 0, -_LOOKED_AT_SAMPLES):
            start = max(0, stop - _LOOKED_AT_SAMPLES)
            loud = _loud(values[start:stop])
            if len(loud):
                self._last = self._at + start + int(loud[-1]) + 1
                if self._first is None:
                    self._first = self._at + int(_loud(values)[0])
                break
        self._at += len(block)

    def ends(self) -> Ends:
        if self._first is None:
            return Ends(leading_samples=self._at, trailing_samples=self._at)
        return Ends(leading_samples=self._first, trailing_samples=self._at - self._last)


@dataclass(frozen=True, slots=True, kw_only=True)
class SpectralEdge:
    """A cliff in the long-term spectrum. upsampled_from_hz is the lower sample rate it betrays, or None."""

    frequency_hz: float
    drop_db: float
    upsampled_from_hz: int | None


class ChannelState(StrEnum):
    """How the channels of a recording stand to each other."""

    USUAL = ""
    IDENTICAL = "identical"
    INVERTED = "inverted"
    SILENT = "silent"


@dataclass(frozen=True, slots=True, kw_only=True)
class State:
    """clipped_runs counts stretches of three or more samples at full scale in one channel.

    used_bits is the depth that the integer samples really use, None for floating point. silent_channel is
    the first that is silent, counting from 1, where channels says that one is.
    """

    clipped_runs: int
    used_bits: int | None
    channels: ChannelState
    edge: SpectralEdge | None
    silent_channel: int | None = None

    @property
    def channels_text(self) -> str:
        """ "identical", "inverted" or "silent 1" (counting from 1); "" for the usual state."""
        return f"{self.channels} {self.silent_channel}" if self.silent_channel else str(self.channels)


class StateMeter:
    def __init__(self, shape: SoundShape) -> None:
        self._shape = shape
        self._clipped_runs = 0
        self._run = np.zeros(shape.channels, dtype=np.int64)
        self._bits_seen = 0
        self._peaks = np.zeros(shape.channels)
        self._identical = self._inverted = shape.channels == 2
        self._spectrum = np.zeros(_FFT_SAMPLES // 2 + 1)
        self._looks = 0
        self._window = np.hanning(_FFT_SAMPLES).astype(np.float32)

    def push(self, block: Block) -> None:
        if not len(block):
            return
        self._count_clipping(block)
        if block.dtype.kind == "i":
            self._bits_seen |= int(np.bitwise_or.reduce(block.reshape(-1)))
        values = as_float(block)
        self._peaks = np.maximum(self._peaks, channel_peaks(values))
        if self._identical:
            self._identical = bool(np.array_equal(block[:, 0], block[:, 1]))
        if self._inverted:
            # The most negative integer has no positive twin.
            self._inverted = bool(np.abs(values[:, 0] + values[:, 1]).max() <= 1.0 / 32768)
        for mono in (values.mean(axis=1),) if self._shape.channels > 2 else values.T:
            self._look(mono)

    def _count_clipping(self, block: Block) -> None:
        info = np.iinfo(block.dtype) if block.dtype.kind == "i" else None
        step = 1 << (info.bits - self._shape.depth_bits) if info and self._shape.depth_bits else 1
        top = info.max - step + 1 if info else 1.0
        bottom = info.min if info else -1.0
        full = (block >= top) | (block <= bottom)
        if not full.any() and not self._run.any():
            return
        for channel in range(block.shape[1]):
            edges = np.flatnonzero(np.diff(full[:, channel].astype(np.int8), prepend=0, append=0))
            starts, stops = edges[::2], edges[1::2]
            lengths = stops - starts
            held = int(self._run[channel])
            if held and (not len(starts) or starts[0]):
                # The run of the block before ended at its edge.
                self._clipped_runs += held >= _CLIPPED_RUN_SAMPLES
            elif held:
                lengths[0] += held
            self._run[channel] = 0
            if len(stops) and stops[-1] == len(block):
                self._run[channel], lengths = lengths[-1], lengths[:-1]
            self._clipped_runs += int(np.count_nonzero(lengths >= _CLIPPED_RUN_SAMPLES))

    def _look(self, mono: NDArray[np.float64]) -> None:
        count = len(mono) // _FFT_SAMPLES
        if not count:
            return
        # In single precision, whose noise lies below that of any recording.
        frames = mono[: count * _FFT_SAMPLES].astype(np.float32).reshape(count, _FFT_SAMPLES) * self._window
        self._spectrum += (np.abs(np.fft.rfft(frames, axis=1)) ** 2).sum(axis=0)
        self._looks += count

    def state(self) -> State:
        runs = self._clipped_runs + int(np.count_nonzero(self._run >= _CLIPPED_RUN_SAMPLES))
        return State(
            clipped_runs=runs,
            used_bits=self._used_bits(),
            channels=self._channels(),
            edge=self._edge(),
            silent_channel=self._silent_channel(),
        )

    def _used_bits(self) -> int | None:
        if self._shape.is_float:
            return None
        width = 16 if self._shape.depth_bits <= 16 else 32
        if not self._bits_seen:
            return 0
        return width - ((self._bits_seen & -self._bits_seen).bit_length() - 1)

    def _silent_channel(self) -> int | None:
        if self._peaks.max(initial=0.0) <= _DEAD_CHANNEL:
            return None
        dead = np.flatnonzero(self._peaks < _DEAD_CHANNEL)
        return int(dead[0]) + 1 if len(dead) else None

    def _channels(self) -> ChannelState:
        if self._peaks.max(initial=0.0) <= _DEAD_CHANNEL:
            return ChannelState.USUAL
        if self._silent_channel():
            return ChannelState.SILENT
        if self._identical:
            return ChannelState.IDENTICAL
        return ChannelState.INVERTED if self._inverted else ChannelState.USUAL

    def _edge(self) -> SpectralEdge | None:
        """The steepest fall within 600 Hz below which the spectrum is filled and above which nothing comes.

        What makes it telling is not the fall alone but that the band just below holds sound throughout:
        pure tones leave gaps there, coders and rate changes do not.
        """
        if not self._looks:
            return None
        nyquist = self._shape.sample_rate / 2
        width = max(1, round(_BAND_HZ / (nyquist / (_FFT_SAMPLES // 2))))
        bands = self._spectrum[: len(self._spectrum) // width * width].reshape(-1, width).mean(axis=1)
        scale = self._looks * (self._window.sum() / 2) ** 2
        level = 10 * np.log10(bands / scale + 1e-20)
        hertz = nyquist / len(level)
        best: SpectralEdge | None = None
        for at in range(int(_LOWEST_EDGE_HZ / hertz), len(level) - 4):
            below, above = level[max(0, at - 16) : at - 1], level[at + 3 :]
            drop = float(below.min() - above.max()) if len(below) and len(above) >= 2 else 0.0
            if drop >= _CLIFF_DB and (best is None or drop > best.drop_db):
                best = SpectralEdge(
                    frequency_hz=round((at + 1) * hertz), drop_db=round(drop, 1), upsampled_from_hz=None
                )
        return self._judged(best)

    def _judged(self, edge: SpectralEdge | None) -> SpectralEdge | None:
        if edge is None:
            return None
        for nyquist in _TELLING_NYQUISTS_HZ:
            if nyquist * 2 < self._shape.sample_rate * 0.95 and 0.955 * nyquist <= edge.frequency_hz <= 1.03 * nyquist:
                # A filter stops a little below the half rate, coders stop elsewhere.
                return SpectralEdge(frequency_hz=edge.frequency_hz, drop_db=edge.drop_db, upsampled_from_hz=2 * nyquist)
        return edge
