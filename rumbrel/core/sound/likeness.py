"""How like its source a lossily coded sound is: short windows of both, compared band by band.

A coding that leaves things out keeps at least the strongest bands in step with the source; another recording, a
reversed one or one that is shifted does not. What is measured, and how far right and wrong lie apart over all
encoders, bitrates and kinds of sound, stands in docs/decisions/likeness.md.
"""

import math
import tempfile
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.verdict import Verdict

from .level import as_float
from .shape import Block, SoundShape

__all__ = ["Likeness", "Sketch", "compared"]

Complex = NDArray[np.complex64]
Float = NDArray[np.float64]

_WINDOWS_A_SECOND, _WINDOWS_A_SECOND_WHEN_SHORT = 1, 3
_SHORT_SECONDS = 60
"""Long sounds have windows enough with fewer of them a second."""
_WINDOWS_A_BATCH = 64
_FULL_SCALE = {np.dtype(np.int16): 32768.0, np.dtype(np.int32): 2147483648.0}
_HOT = 0.7
"""About -3 dBFS: coding lifts what is lower beyond full scale only in rare cases."""
_SECONDS_A_HOT_PLACE = 4
_WINDOW_SECONDS = 0.02
_HIGHEST_HZ = 16_000
_IN_MEMORY_BYTES = 8 << 20
_BAND_EDGES_HZ = (0, 200, 400, 800, 1600, 3200, 6400, 12800)

_STRONG_SHARE = 0.05
_TELLING_SHARE = 0.01
"""Of a channel's energy, so much makes a band one that must be in step, or one that is looked at."""
_LEAST_COHERENCE = 0.3
_TELLING_COHERENCE = 0.5
_CLOSE_COHERENCE = 0.9
_LOST_DB = -20.0
"""What is left of a second, or of all, when the sound is gone."""
_LEFT_OUT_DB = -15.0
"""What is left of a band that the coding leaves out."""
_LOUD_SECOND_DB = -30.0
"""Against the loudest second: quieter ones are not judged by themselves."""
_OUT_OF_STEP = 0.35
"""Against the seconds that are in step."""
_MOST_OUT_OF_STEP = 0.3
_FINE_DIFFERENCE_DB = -12.0
_LEVEL_DB_FINE, _LEVEL_DB_COARSE = 1.25, 2.5
_QUIETEST_JUDGED_DBFS = -50.0
"""Below this the steps of coarse codings change the level themselves."""
_SILENT_DBFS = -75.0
_BESIDE_CONSTANT_DB = -35.0
_SWAPPED = 0.15
_LIKE_NOISE_DB = 6.0
_LIKE_NOISE_BANDS = 5
_LIKE_ENERGY_DB = 6.0


def _window_samples(sample_rate: int) -> int:
    return 1 << max(6, math.ceil(math.log2(sample_rate * _WINDOW_SECONDS)))


class Sketch:
    """Windows of a sound at fixed places, as spectra of all channels up to 16 kHz. Push every block, or only what
    next_wanted asks for, with its place; what it holds of long sounds lies in a temporary file.

    peak is the largest value of what was pushed, full scale being 1. A sketch that is given the hot places of
    another looks there and at its windows alone, since coding lifts peaks where they are."""

    def __init__(self, shape: SoundShape, seconds: float, *, hot: Sequence[int] | None = None) -> None:
        """seconds is about how long the sound will be; sketches that are compared are made for the same."""
        self.shape, self.seconds = shape, seconds
        self.peak = 0.0
        self._loudest: dict[int, tuple[float, int]] = {}
        self._looks_at = hot
        self.windows_a_second = _WINDOWS_A_SECOND_WHEN_SHORT if seconds <= _SHORT_SECONDS else _WINDOWS_A_SECOND
        self._length = _window_samples(shape.sample_rate)
        self._stride = max(self._length, shape.sample_rate // self.windows_a_second)
        self._bins = min(self._length // 2, round(_HIGHEST_HZ / shape.sample_rate * self._length)) + 1
        self._window = np.hanning(self._length).astype(np.float32)
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY_BYTES)  # noqa: SIM115 - lives as long as this
        self._batch = np.zeros((_WINDOWS_A_BATCH, shape.channels, self._length), dtype=np.float32)
        self._at = 0
        self.windows = 0

    def next_wanted(self, at: int) -> tuple[int, int]:
        """The next samples that a window reaches into or a peak is at, from a place on: from and to."""
        start = max(0, -(-(at - self._length + 1) // self._stride)) * self._stride
        hot = self._looks_at or ()
        peak = bisect_left(hot, at)
        if peak < len(hot) and hot[peak] < start:
            return hot[peak], hot[peak] + 1
        return start, start + self._length

    def push(self, block: Block, at: int | None = None) -> None:
        """Add a block shaped (samples, channels): behind the last, or where it lies. What is left out is silence
        if a window reaches into it."""
        start = self._at if at is None else at
        self._at = end = start + len(block)
        self._hear(block, start)
        while (begun := self.windows * self._stride) < end:
            low, high = max(begun, start), min(begun + self._length, end)
            if low < high:
                window = self._batch[self.windows % _WINDOWS_A_BATCH]
                piece = block[low - start : high - start]
                # In single precision already, nothing has to be made of it.
                piece = piece if piece.dtype == np.float32 else as_float(piece)
                window[:, low - begun : high - begun] = piece.T
            if high < begun + self._length:
                return
            self.windows += 1
            if self.windows % _WINDOWS_A_BATCH == 0:
                self._keep(self._batch)
                self._batch[:] = 0

    def _hear(self, block: Block, start: int) -> None:
        if not len(block) or (self._looks_at is not None and not self._is_hot(start, start + len(block))):
            return
        full = _FULL_SCALE.get(block.dtype, 1.0)
        high, low = float(block.max()) / full, -float(block.min()) / full
        self.peak = max(self.peak, high, low)
        if self._looks_at is None and max(high, low) >= _HOT:
            place = start + int(block.argmax() if high >= low else block.argmin()) // block.shape[1]
            stretch = place // (self.shape.sample_rate * _SECONDS_A_HOT_PLACE)
            self._loudest[stretch] = max(self._loudest.get(stretch, (0.0, 0)), (max(high, low), place))

    @property
    def hot(self) -> tuple[int, ...]:
        """Where the largest values of every few seconds are, if they are large, in order."""
        return tuple(place for _, (_, place) in sorted(self._loudest.items()))

    def _is_hot(self, start: int, end: int) -> bool:
        """Whether a place that is looked at lies in a stretch."""
        places = self._looks_at or ()
        first = bisect_left(places, start)
        return first < len(places) and places[first] < end

    def _keep(self, windows: NDArray[np.float32]) -> None:
        self._file.write(self._spectra_of(windows).tobytes())

    def _spectra_of(self, windows: NDArray[np.float32]) -> Complex:
        from scipy import fft

        # Where the source is nowhere loud, its result is not either.
        if self._looks_at:
            self.peak = max(self.peak, float(windows.max()), -float(windows.min()))
        whole = windows @ self._window
        mean = whole / self._window.sum()
        # It stays in single precision, and is four times as fast for it.
        spectra = fft.rfft((windows - mean[:, :, None]) * self._window)[:, :, : self._bins]
        # Its constant part stays where it belongs, but does not spill into the lowest bins.
        spectra[:, :, 0] = whole
        return np.asarray(spectra, np.complex64)

    def batches(self) -> Iterator[Complex]:
        """Spectra of some windows at a time, shaped (windows, channels, bins)."""
        width = self._bins * self.shape.channels * 8
        self._file.seek(0)
        while raw := self._file.read(width * _WINDOWS_A_BATCH):
            yield np.frombuffer(raw, np.complex64).reshape(-1, self.shape.channels, self._bins)
        self._file.seek(0, 2)
        if left := self.windows % _WINDOWS_A_BATCH:
            yield self._spectra_of(self._batch[:left])

    def band_of_bins(self) -> NDArray[np.int64]:
        hertz = np.arange(self._bins) * self.shape.sample_rate / self._length
        return np.searchsorted(_BAND_EDGES_HZ, hertz, side="right") - 1

    @property
    def peak_dbfs(self) -> float:
        return 20 * math.log10(self.peak) if self.peak > 0 else -math.inf

    @property
    def full_scale_energy(self) -> float:
        """Of one window of a sine at full scale, all its bins."""
        return float((self._window.astype(np.float64) ** 2).sum() * self._length / 8)

    def close(self) -> None:
        self._file.close()


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """difference_db is the energy of what differs against that of the source, peak_dbfs the largest value of the
    result where it was looked at; text says what is wrong, "" where nothing is."""

    verdict: Verdict
    difference_db: float
    peak_dbfs: float
    text: str = ""


@dataclass(slots=True)
class _Sums:
    """Energies and cross energies, shaped (seconds, bands), of one channel of the source and one of the result."""

    source: Float
    result: Float
    cross: Float

    def coherence(self) -> Float:
        """Of each band over all seconds, -1 to 1."""
        return np.asarray(self.cross.sum(0) / np.sqrt(self.source.sum(0) * self.result.sum(0) + 1e-30))


def compared(source: Sketch, result: Sketch) -> Likeness:
    """Judge a result by the sketches of its source and of itself, which are of one shape."""
    channels = source.shape.channels
    bands = len(_BAND_EDGES_HZ)
    seconds = max(source.windows, result.windows) // source.windows_a_second + 1
    pairs = [(one, two) for one in range(channels) for two in (range(channels) if channels == 2 else (one,))]
    sums = {pair: _Sums(*(np.zeros((seconds, bands)) for _ in range(3))) for pair in pairs}
    band_of_bins = source.band_of_bins()
    in_band = np.zeros((len(band_of_bins), bands), dtype=np.float32)
    in_band[np.arange(len(in_band)), band_of_bins] = 1
    in_band[0] = 0
    apart = whole = whole_after = crossed = 0.0
    at, constant = 0, np.zeros(channels)
    for before, after in zip(source.batches(), result.batches(), strict=False):
        count = min(len(before), len(after))
        before, after = before[:count], after[:count]
        second = (at + np.arange(count)) // source.windows_a_second
        firsts = np.flatnonzero(np.diff(second, prepend=-1))
        at += count
        energy, energy_after = _energy(before), _energy(after)
        whole, whole_after = whole + float(energy.sum()), whole_after + float(energy_after.sum())
        constant += energy[:, :, 0].sum(0)
        apart += float(_energy(before - after).sum())
        own, own_after = _in_bands(energy, in_band), _in_bands(energy_after, in_band)
        for (one, two), each in sums.items():
            cross = _cross_energy(before[:, one], after[:, two])
            crossed += float(cross.sum()) if one == two else 0.0
            each.source[second[firsts]] += np.add.reduceat(own[:, one], firsts)
            each.result[second[firsts]] += np.add.reduceat(own_after[:, two], firsts)
            each.cross[second[firsts]] += np.add.reduceat(cross @ in_band, firsts)
    difference = 10 * math.log10(max(apart, 1e-30) / whole) if whole else 0.0
    # Of what differs, a change of level alone is left out.
    fine = 1 - crossed * abs(crossed) / (whole * whole_after + 1e-30) < _ratio(_FINE_DIFFERENCE_DB)
    bench = _Bench(
        silence=10 ** (_SILENT_DBFS / 10) * source.full_scale_energy * max(1, source.windows),
        quietest=10 ** (_QUIETEST_JUDGED_DBFS / 10) * source.full_scale_energy * max(1, source.windows),
        most_level_db=_LEVEL_DB_FINE if fine else _LEVEL_DB_COARSE,
        bins=in_band.sum(0),
        constant=constant,
    )
    verdict, text = _wrong(sums, channels, bench) or (Verdict.PASSED, "")
    return Likeness(
        verdict=verdict, difference_db=round(difference, 1), peak_dbfs=round(result.peak_dbfs, 2), text=text
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Bench:
    """What is the same for every channel: energies of whole sounds that count as silent and as too quiet for
    their level to be judged, how far the level may be off, how many bins each band has, and the energy of each channel's constant part."""

    silence: float
    quietest: float
    most_level_db: float
    bins: Float
    constant: Float


Finding = tuple[Verdict, str]


def _wrong(sums: dict[tuple[int, int], _Sums], channels: int, bench: _Bench) -> Finding | None:
    loudest = max(sums[one, one].source.sum() for one in range(channels))
    for one in range(channels):
        own = sums[one, one]
        # Beside a constant part, the errors of coarse codings are larger than what little else there is.
        if own.source.sum() < max(bench.silence, loudest * 1e-4, bench.constant[one] * _ratio(_BESIDE_CONSTANT_DB)):
            continue
        if channels == 2 and _is_swapped(own, sums[one, 1 - one]):
            return Verdict.FAILED, "the channels are swapped"
        found = _wrong_channel(own, f"channel {one + 1}" if channels > 1 else "the sound", bench)
        if found is not None:
            return found
    return None


def _is_swapped(own: _Sums, other: _Sums) -> bool:
    """Whether the other channel of the result is nearer to this one of the source, in the bands that tell."""
    share = own.source.sum(0) / own.source.sum()
    here, there = own.coherence(), other.coherence()
    telling = (share >= _STRONG_SHARE) & (there >= _TELLING_COHERENCE)
    return bool(telling.any()) and float((share * (there - here))[telling].sum()) > _SWAPPED * share[telling].sum()


def _wrong_channel(own: _Sums, name: str, bench: _Bench) -> Finding | None:
    before, after = own.source.sum(0), own.result.sum(0)
    share = before / before.sum()
    if own.coherence()[share >= _STRONG_SHARE].max() < _LEAST_COHERENCE:
        return _strange(own, name, bench)
    # Bands that the coding leaves out altogether tell nothing of single seconds.
    kept = (share >= _TELLING_SHARE) & (after > before * _ratio(_LEFT_OUT_DB))
    if not kept.any():
        return Verdict.FAILED, f"{name} is lost: nothing of it is left at this bitrate"
    source, result = own.source[:, kept].sum(1), own.result[:, kept].sum(1)
    loud = source > source.max() * _ratio(_LOUD_SECOND_DB)
    lost = loud & (result < source * _ratio(_LOST_DB))
    if lost.any():
        return Verdict.FAILED, f"{name} is silent from {_clock(int(np.argmax(lost)))}, where the source is not"
    step = own.cross[:, kept].sum(1) / np.sqrt(source * result + 1e-30)
    out = loud & (step < _OUT_OF_STEP * np.quantile(step[loud], 0.75))
    if source[out].sum() > _MOST_OUT_OF_STEP * source.sum():
        return Verdict.FAILED, f"{name} is not that of the source from {_clock(int(np.argmax(out)))}"
    close = (own.coherence() >= _CLOSE_COHERENCE) & (share >= _STRONG_SHARE)
    return _wrong_level(float(before[close].sum()), float(after[close].sum()), name, bench)


def _strange(own: _Sums, name: str, bench: _Bench) -> Finding:
    """What to say where no strong band is in step: lost, replaced by noise like its own, or another sound.
    Noise is even over its bands and over time."""
    before, after, seconds = own.source.sum(0), own.result.sum(0), own.source.sum(1)[:-1]
    if after.sum() < before.sum() * _ratio(_LOST_DB):
        return Verdict.FAILED, f"{name} is lost: nothing of it is left at this bitrate"
    telling = (before / before.sum() >= _TELLING_SHARE) & (bench.bins > 0)
    density = before[telling] / bench.bins[telling]
    even = density.max() < density.min() * _ratio(_LIKE_NOISE_DB)
    steady = len(seconds) > 0 and seconds.max() < seconds.min() * _ratio(_LIKE_NOISE_DB)
    if (
        telling.sum() >= _LIKE_NOISE_BANDS
        and even
        and steady
        and _ratio(-_LIKE_ENERGY_DB) < after.sum() / before.sum() < _ratio(_LIKE_ENERGY_DB)
    ):
        return Verdict.DOUBTFUL, f"{name} is noise and was coded as other noise like it, which cannot be compared"
    return Verdict.FAILED, f"{name} is not that of the source"


def _wrong_level(before: float, after: float, name: str, bench: _Bench) -> Finding | None:
    if before < bench.quietest:
        return None
    change = 10 * math.log10(after / before)
    if abs(change) > bench.most_level_db:
        return Verdict.FAILED, f"{name} is {abs(change):.1f} dB {'louder' if change > 0 else 'quieter'} than its source"
    return None


def _energy(spectra: Complex) -> NDArray[np.float32]:
    return np.asarray(spectra.real**2 + spectra.imag**2)


def _in_bands(energy: NDArray[np.float32], in_band: NDArray[np.float32]) -> NDArray[np.float32]:
    """Summed up in each band: one product of matrices is faster than one for each window."""
    return (energy.reshape(-1, len(in_band)) @ in_band).reshape(*energy.shape[:2], -1)


def _cross_energy(one: Complex, other: Complex) -> NDArray[np.float32]:
    return np.asarray(one.real * other.real + one.imag * other.imag)


def _ratio(db: float) -> float:
    return float(10 ** (db / 10))


def _clock(second: int) -> str:
    return f"{second // 60} min {second % 60} s"
