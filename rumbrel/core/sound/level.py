"""Loudness and peaks of a stream: ITU-R BS.1770-4, EBU R 128, EBU Tech 3341 and 3342 (from memory)."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .shape import Block, SoundShape

__all__ = ["Level", "LevelMeter", "SILENCE_LUFS", "TruePeakMeter", "as_float", "channel_peaks", "joined_loudness"]

Float = NDArray[np.float64]

_ABSOLUTE_GATE_LUFS = -70.0
_INTEGRATED_GATE_LU = -10.0
_RANGE_GATE_LU = -20.0
"""Gates of ITU-R BS.1770-4 and, for the range, of EBU Tech 3342 (from memory), held to the cases of Tech 3341 and 3342."""
_HOPS_A_SECOND = 10
_BLOCK_HOPS = 4
_SHORT_TERM_HOPS = 30
"""Blocks of 400 ms that overlap by three quarters; short-term blocks of 3 s (BS.1770-4, EBU Tech 3341)."""
# By the angle of the speaker: 1.41 from 60 to 120 degrees, 1 before and behind (BS.1770-4, table 4, from memory).
_CHANNEL_WEIGHTS = {"LFE": 0.0, "Ls": 1.41, "Rs": 1.41}
SILENCE_LUFS = -math.inf


@dataclass(frozen=True, slots=True, kw_only=True)
class Level:
    """integrated_lufs is -inf for silence or less than 0.4 s. Peaks are in dB of full scale, -inf for silence."""

    integrated_lufs: float
    range_lu: float
    true_peak_dbtp: float
    sample_peak_dbfs: float


def as_float(block: Block) -> Float:
    """Float64 with full scale at 1.0: exact for integers of up to 32 bit."""
    if block.dtype == np.int16:
        return block.astype(np.float64) / 32768.0
    if block.dtype == np.int32:
        return block.astype(np.float64) / 2147483648.0
    return np.asarray(block, dtype=np.float64)


_ROW_SAMPLES = 64


def channel_peaks(values: Float) -> Float:
    """The largest magnitude of each channel, of values shaped (samples, channels). Many samples are put into one row
    first: reducing over an axis as short as the channels', or along every other value, takes ten times as long."""
    channels = values.shape[1]
    rows = len(values) // _ROW_SAMPLES
    wide = values[: rows * _ROW_SAMPLES].reshape(rows, _ROW_SAMPLES * channels)
    rest = values[rows * _ROW_SAMPLES :]
    high = np.concatenate([wide.max(axis=0, initial=0.0).reshape(-1, channels), rest]).max(axis=0)
    low = np.concatenate([wide.min(axis=0, initial=0.0).reshape(-1, channels), rest]).min(axis=0)
    return np.asarray(np.maximum(high, -low))


def _k_weighting(sample_rate: int) -> Float:
    """Second order sections of the K weighting at any rate: BS.1770's two filters as analogue
    prototypes (shelf of 4 dB at 1,682 Hz, high-pass at 38 Hz), transformed bilinearly."""
    k = math.tan(math.pi * 1681.974450955533 / sample_rate)
    q, high = 0.7071752369554196, 10 ** (3.999843853973347 / 20)
    middle = high**0.4996667741545416
    a0 = 1 + k / q + k * k
    shelf = [
        (high + middle * k / q + k * k) / a0, 2 * (k * k - high) / a0, (high - middle * k / q + k * k) / a0,
        1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0,
    ]  # fmt: skip
    k, q = math.tan(math.pi * 38.13547087602444 / sample_rate), 0.5003270373238773
    a0 = 1 + k / q + k * k
    low_cut = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]
    return np.array([shelf, low_cut])


class _HopEnergy:
    """Weighted mean square of each tenth of a second, all channels summed."""

    def __init__(self, shape: SoundShape) -> None:
        # Importing this takes longer than reading the headers of a thousand files, so it waits until it is needed.
        from scipy.signal import sosfilt

        self._filter = sosfilt
        self._rate = shape.sample_rate
        self._sections = _k_weighting(shape.sample_rate)
        self._state = np.zeros((2, 2, shape.channels))
        self._weights = np.array([_CHANNEL_WEIGHTS.get(name, 1.0) for name in shape.channel_positions])
        self._sums: list[float] = []
        self._open_sum = 0.0
        self._open_start = 0
        self._at = 0

    def push(self, block: Float) -> None:
        weighted, self._state = self._filter(self._sections, block, axis=0, zi=self._state)
        power = np.square(weighted, out=weighted) @ self._weights
        start = 0
        while start < len(power):
            end_at = round((len(self._sums) + 1) * self._rate / _HOPS_A_SECOND)
            stop = min(len(power), start + end_at - self._at)
            self._open_sum += float(power[start:stop].sum())
            self._at += stop - start
            start = stop
            if self._at == end_at:
                self._sums.append(self._open_sum / (end_at - self._open_start))
                self._open_sum, self._open_start = 0.0, end_at

    def windows(self, hops: int) -> Float:
        """Mean power of every run of so many hops."""
        if len(self._sums) < hops:
            return np.zeros(0)
        total = np.concatenate([[0.0], np.cumsum(self._sums)])
        return np.asarray((total[hops:] - total[:-hops]) / hops)


def _lufs(power: Float) -> Float:
    with np.errstate(divide="ignore"):
        return np.asarray(-0.691 + 10 * np.log10(np.maximum(power, 0.0)))


def _integrated(power: Float) -> float:
    heard = power[_lufs(power) > _ABSOLUTE_GATE_LUFS]
    if not len(heard):
        return SILENCE_LUFS
    gate = _lufs(heard.mean(keepdims=True))[0] + _INTEGRATED_GATE_LU
    return float(_lufs(heard[_lufs(heard) > gate].mean(keepdims=True))[0])


def _range(power: Float) -> float:
    heard = power[_lufs(power) > _ABSOLUTE_GATE_LUFS]
    if not len(heard):
        return 0.0
    gate = _lufs(heard.mean(keepdims=True))[0] + _RANGE_GATE_LU
    low, high = np.percentile(_lufs(heard[_lufs(heard) > gate]), (10, 95))
    return float(high - low)


_TAPS_A_PHASE = 16
_HISTORY_SAMPLES = _TAPS_A_PHASE + 1
_STRETCH_SAMPLES = 32
_STRETCHES_A_TURN = 512
_SINGLE_PRECISION = 1e-5
"""More than single precision errs in a sum of seventeen products, against the largest of them."""


class TruePeakMeter:
    """Peaks between the samples, at four times over-sampling (twice from 88.2 kHz on, none from 176.4 kHz).

    A stretch whose samples are so low that the filter cannot lift them above the peak found so far is passed over,
    which is exact and leaves little to do for most music. The others are filtered in single precision, many at once
    as a product of matrices; where the largest values are, it is done again in double precision.
    """

    def __init__(self, shape: SoundShape) -> None:
        from scipy import signal

        self._factor = 4 if shape.sample_rate < 88_200 else 2 if shape.sample_rate < 176_400 else 1
        count = _TAPS_A_PHASE * self._factor + 1
        taps = (
            signal.firwin(count, 1 / self._factor, window=("kaiser", 8.0)) * self._factor if self._factor > 1 else None
        )
        self._lift, self._filter = 1.0, None
        if taps is not None:
            self._lift = float(max(np.abs(taps[phase :: self._factor]).sum() for phase in range(self._factor)))
            # What the filter makes of each sample of a stretch. Only where the whole filter lies on the stretch: at both
            # ends it sees an edge none of the sound's own.
            single = np.eye(_STRETCH_SAMPLES + _HISTORY_SAMPLES)
            first = _TAPS_A_PHASE * self._factor
            made = signal.upfirdn(taps, single, up=self._factor)
            self._filter = made[:, first : first + _STRETCH_SAMPLES * self._factor + 1]
            self._single = self._filter.astype(np.float32)
        self._tail = np.zeros((_HISTORY_SAMPLES, shape.channels))
        self.peak = 0.0

    def push(self, block: Float) -> None:
        if self._filter is None:
            self.peak = max(self.peak, float(np.abs(block).max(initial=0.0)))
            return
        joined = np.concatenate([self._tail, block])
        count = (len(joined) - _HISTORY_SAMPLES) // _STRETCH_SAMPLES
        if count:
            self._push_stretches(joined, count, self._filter)
        # What is left waits until there is a stretch of it.
        self._tail = joined[count * _STRETCH_SAMPLES :]

    def _push_stretches(self, joined: Float, count: int, whole: Float) -> None:
        length = _STRETCH_SAMPLES + _HISTORY_SAMPLES
        starts = np.arange(count) * _STRETCH_SAMPLES
        # All channels in one row: reducing over so short an axis as theirs takes ten times as long. What lies behind a
        # stretch is counted with the whole of the next one, which is never too little.
        magnitude = np.abs(joined).reshape(-1)
        wide = _STRETCH_SAMPLES * joined.shape[1]
        inside = magnitude[: count * wide].reshape(count, wide).max(axis=1)
        behind = np.append(inside[1:], magnitude[count * wide :].max(initial=0.0))
        most = np.maximum(inside, behind) * self._lift
        # The loudest first: it lets the most others be passed over.
        order = np.argsort(-most)
        samples = np.arange(length)
        single = np.ascontiguousarray(joined.T, dtype=np.float32)
        at, turn = 0, 1
        while at < count and most[order[at]] > self.peak:
            some = order[at : at + turn]
            some = some[most[some] > self.peak]
            at, turn = at + turn, _STRETCHES_A_TURN
            # One product for all channels and stretches.
            pieces = single[:, starts[some][:, None] + samples].reshape(-1, length)
            made = pieces @ self._single
            highest = np.maximum(made.max(axis=1), -made.min(axis=1)).reshape(len(single), -1)
            peaks = highest.max(axis=0)
            best = float(peaks.max(initial=0.0))
            if best * (1 + _SINGLE_PRECISION) <= self.peak:
                continue
            for start in starts[some[peaks >= best * (1 - _SINGLE_PRECISION)]][:_STRETCHES_A_TURN]:
                exact = float(np.abs(joined[start : start + length].T @ whole).max())
                self.peak = max(self.peak, exact)

    def finish(self) -> None:
        self.push(np.zeros((_HISTORY_SAMPLES + _STRETCH_SAMPLES, self._tail.shape[1])))

    @property
    def dbtp(self) -> float:
        """What was found so far; call finish before, once."""
        return _decibels(self.peak)


def _decibels(value: float) -> float:
    return 20 * math.log10(value) if value > 0 else -math.inf


class LevelMeter:
    """Push blocks shaped (samples, channels) of the given shape, then ask for the Level once."""

    def __init__(self, shape: SoundShape) -> None:
        self._hops = _HopEnergy(shape)
        self._true = TruePeakMeter(shape)
        self._sample_peak = 0.0

    def push(self, block: Block) -> None:
        values = as_float(block)
        self._sample_peak = max(self._sample_peak, float(channel_peaks(values).max(initial=0.0)))
        self._hops.push(values)
        self._true.push(values)

    def block_powers(self) -> Float:
        """Mean powers of the 400 ms blocks; those of several tracks joined give an album's loudness."""
        return self._hops.windows(_BLOCK_HOPS)

    def short_term_lufs(self) -> Float:
        """Short-term loudness, ten values a second; each is that of the 3 s before it, NaN in the first 3 s."""
        powers = self._hops.windows(_SHORT_TERM_HOPS)
        return np.concatenate([np.full(_SHORT_TERM_HOPS - 1, np.nan), _lufs(powers)]) if len(powers) else powers

    def level(self) -> Level:
        self._true.finish()
        return Level(
            integrated_lufs=_integrated(self.block_powers()),
            range_lu=_range(self._hops.windows(_SHORT_TERM_HOPS)),
            true_peak_dbtp=_decibels(max(self._true.peak, self._sample_peak)),
            sample_peak_dbfs=_decibels(self._sample_peak),
        )


def joined_loudness(parts: list[Float]) -> float:
    """Integrated loudness of several tracks as one programme, in LUFS."""
    return _integrated(np.concatenate(parts)) if parts else SILENCE_LUFS
