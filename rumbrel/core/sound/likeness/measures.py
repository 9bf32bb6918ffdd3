"""What a coding does to a sound, as figures in dB of which each has a limit.

Of each band, over four lengths of time (a stretch, four and sixteen of them, and all of the sound):

- ADDED: the energy of what differs against the source;
- LOUDER, QUIETER: the energy of the result against that of the source, and the other way round.

The source is taken with what a coding's noise may hide behind: sound shortly before and after (pre-echo), in the bands
beside it, and a share of the loudest band. Bands are told apart by how far they lie below the loudest of their time, since
codings treat strong and weak ones differently (LOUD, MIDDLE, FAINT).

Of a sound at a time there are single figures as well (FIGURES): the mean level of its bands, the size of its peaks against
its level, and the strongest single tone below 400 Hz that was added.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .bands import BAND_EDGES_HZ, Doubles, Stretches

__all__ = [
    "ADDED",
    "BAND_MEASURES",
    "CLASSES",
    "FIGURES",
    "LOUDER",
    "QUIETER",
    "SPANS",
    "Figure",
    "Found",
    "Measured",
    "Measurer",
    "level_bands_of",
]

BAND_MEASURES = ("added", "louder", "quieter")
ADDED, LOUDER, QUIETER = range(3)
SPANS = (1, 4, 16, 0)
"""Lengths of time in stretches; 0 is all of the sound."""
CLASSES = 3
_CLASS_EDGES_DB = (-18.0, -36.0)
FIGURES = (
    "level 4 up", "level 4 down", "level 16 up", "level 16 down", "peaks 4 smaller", "peaks 4 larger",
    "peaks 16 smaller", "peaks 16 larger", "peaks smaller", "peaks larger", "tone", "tone throughout",
)  # fmt: skip

_FLOOR = 1e-10
"""-100 dBFS: what lies below is not judged."""
_INAUDIBLE = 10**-8.4
"""-84 dBFS: what a coding adds below that is not judged."""
_OF_LOUDEST = 10**-4.5
_OF_CONSTANT = 10**-2.5
"""Steps of companded codings are as coarse as the value that they stand at."""
_OF_OTHER_CHANNEL = 10**-1.5
_OF_CHANNELS = 10**-2.5
"""Of both channels, for half their difference: noise of joint stereo lies there."""
_QUIET_SHARE = 1e-7
_NEIGHBOURS = 8
"""Stretches around, of which the loudest counts: about a second."""
_SPREAD_UP_DB, _SPREAD_DOWN_DB, _SPREAD_BANDS = 10.0, 15.0, 3
_SECOND_STRETCH = 0.3
_LEVEL_HIGHEST_HZ = 9_500
_LEVEL_HIGHEST_SHARE = 0.36
_TELLING_STRETCH = 0.03
_KEPT_COHERENCE, _KEPT_PEAKS = 0.8, 0.9
_TELLING_ENERGY = 1e-9
"""-90 dBFS, mean square."""
_TONE_FFT, _SHORTEST_TONE_FFT = 4096, 2048
_TONE_FROM_HZ, _TONE_TO_HZ = 18.0, 400.0
_TONE_BESIDE = 3
_TONE_OF_MEAN, _TONE_OF_LOUDEST = 0.3, 1e-4
_TONE_INAUDIBLE = 1e-9


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """Figures of one length of time. bands is shaped (measures, times, signals, bands), classes (times, signals, bands);
    first and step say where the times begin, in stretches."""

    span: int
    first: int
    bands: Doubles
    classes: NDArray[np.int8]


def _spread(energy: Doubles) -> Doubles:
    """What a coding's noise may hide behind: the loudest of two stretches before and after, and of the bands beside."""
    near = energy.copy()
    for step, share in ((1, 1.0), (2, _SECOND_STRETCH)):
        np.maximum(near[step:], energy[:-step] * share, out=near[step:])
        np.maximum(near[:-step], energy[step:] * share, out=near[:-step])
    spread = near.copy()
    for step in range(1, _SPREAD_BANDS + 1):
        np.maximum(spread[..., step:], near[..., :-step] * 10 ** (-_SPREAD_UP_DB * step / 10), out=spread[..., step:])
        np.maximum(
            spread[..., :-step], near[..., step:] * 10 ** (-_SPREAD_DOWN_DB * step / 10), out=spread[..., :-step]
        )
    return spread


def _loudest_around(energy: Doubles, reach: int) -> Doubles:
    loudest = energy.copy()
    for step in range(1, reach + 1):
        np.maximum(loudest[step:], energy[:-step], out=loudest[step:])
        np.maximum(loudest[:-step], energy[step:], out=loudest[:-step])
    return loudest


def _meant(values: Doubles, span: int) -> Doubles:
    """Means of so many stretches, without a rest; of all where there are fewer."""
    if span == 1:
        return values
    count = len(values) // span if span else 0
    if not count:
        return np.asarray(values.mean(0, keepdims=True))
    return np.asarray(values[: count * span].reshape(count, span, *values.shape[1:]).mean(1))


def _db(values: Doubles) -> Doubles:
    return np.asarray(10 * np.log10(values))


@dataclass(frozen=True, slots=True, kw_only=True)
class Figure:
    """One of FIGURES over time: values in dB; first and step say where they begin, in stretches. hertz belongs to each
    value where it is about a tone."""

    index: int
    first: int
    step: float
    values: Doubles
    hertz: Doubles | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """All the figures of a chunk, or of the whole sound."""

    bands: tuple[Measured, ...]
    figures: tuple[Figure, ...]


class Measurer:
    """Makes figures of chunks of stretches, and of all of them at the end. gain is what the encoder does to the level
    of every sound, as a factor; level_bands are those in which it keeps energy."""

    def __init__(self, channels: int, *, gain: float, level_bands: NDArray[np.bool_]) -> None:
        self._channels, self._gain, self._level_bands = channels, gain, level_bands
        self._sums: dict[str, Doubles] = {}
        self._sample_sums: Doubles | None = None
        self._tones: list[tuple[Doubles, Doubles, Doubles]] = []
        self._stretches = 0

    def chunk(self, stretches: Stretches) -> Found:
        parts = dict(zip(_PARTS, _parts_of(stretches), strict=True))
        first, figures, bands = stretches.first, [], []
        for span in SPANS[:-1]:
            if len(stretches) < span:
                continue
            measured = self._measured(parts, span, first)
            bands.append(measured)
            if span > 1:
                levels = self._levels(parts, measured)
                figures += self._both_ways(2 * SPANS.index(span) - 2, levels, first, span)
                figures += self._both_ways(2 * SPANS.index(span) + 2, _peak_sizes(stretches.sums, span), first, span)
        differing, hidden, hertz = _added_tones(stretches, self._gain)
        if len(differing):
            self._tones.append((differing.sum(0), hidden.sum(0), hertz))
            figures.append(_tone_figure(_TONE, differing / hidden, hertz, first, len(stretches) / len(differing)))
        for name in _PARTS:
            summed = parts[name].sum(0, keepdims=True)
            self._sums[name] = self._sums[name] + summed if name in self._sums else summed
        samples = stretches.sums.sum(0, keepdims=True)
        self._sample_sums = samples if self._sample_sums is None else self._sample_sums + samples
        self._stretches += len(stretches)
        return Found(bands=tuple(bands), figures=tuple(figures))

    def whole(self) -> Found:
        """Of all of the sound, once every chunk was measured; nothing where there was none."""
        if self._sample_sums is None:
            return Found(bands=(), figures=())
        parts = {name: summed / self._stretches for name, summed in self._sums.items()}
        figures = self._both_ways(_PEAKS, _peak_sizes(self._sample_sums, 1), 0, self._stretches)
        # A last chunk that is short has bins of its own.
        tones = [each for each in self._tones if len(each[2]) == len(self._tones[0][2])]
        if tones:
            differing, hidden = (np.sum([each[part] for each in tones], axis=0) for part in (0, 1))
            ratio = (differing / hidden)[None]
            figures.append(_tone_figure(_TONE_THROUGHOUT, ratio, tones[0][2], 0, self._stretches))
        return Found(bands=(self._measured(parts, 0, 0),), figures=tuple(figures))

    def _measured(self, parts: dict[str, Doubles], span: int, first: int) -> Measured:
        source, result, common, spread_result, hiding, around, quiet = (_meant(parts[name], span) for name in _PARTS)
        differing = np.maximum(self._gain**2 * source + result - 2 * self._gain * common, 0)
        bands = np.stack([
            _db(differing / hiding + 1e-6),
            _db(result / hiding + 1e-6),
            -_db((spread_result + quiet) / (source + quiet)),
        ])  # fmt: skip
        below = _db(source / (around + _FLOOR) + 1e-12)
        classes = (below < _CLASS_EDGES_DB[0]).astype(np.int8) + (below < _CLASS_EDGES_DB[1]).astype(np.int8)
        return Measured(span=span, first=first, bands=bands, classes=classes)

    def _levels(self, parts: dict[str, Doubles], measured: Measured) -> Doubles:
        """The mean level of the loud bands of each time and channel, in dB against the source; 0 where there are none. A coding lifts one band and lowers another; their mean it keeps. Shaped (times, channels)."""
        channels = self._channels
        source, result, common = (
            _meant(parts[name], measured.span)[:, :channels] for name in ("source", "result", "common")
        )
        # Only where the coding kept the sound itself, and not the noise in its place.
        kept = common > _KEPT_COHERENCE * np.sqrt(source * result)
        telling = (measured.classes[:, :channels] == 0) & self._level_bands & (source > _INAUDIBLE) & kept
        ratio = _db((result + _FLOOR) / (self._gain**2 * source + _FLOOR))
        counts = telling.sum(-1)
        return np.asarray(np.where(counts > 0, (ratio * telling).sum(-1) / np.maximum(counts, 1), 0.0))

    @staticmethod
    def _both_ways(index: int, values: Doubles, first: int, step: float) -> list[Figure]:
        """Of values up and down, the channel that goes furthest."""
        up, down = values.max(1), (-values).max(1)
        ways = (down, up) if index >= _FIRST_OF_PEAKS else (up, down)
        return [Figure(index=index + number, first=first, step=step, values=each) for number, each in enumerate(ways)]


_FIRST_OF_PEAKS = FIGURES.index("peaks 4 smaller")
_PEAKS, _TONE, _TONE_THROUGHOUT = (FIGURES.index(name) for name in ("peaks smaller", "tone", "tone throughout"))
_PARTS = ("source", "result", "common", "spread_result", "hiding", "around", "quiet")


def _parts_of(stretches: Stretches) -> tuple[Doubles, ...]:
    """What the figures are made of: see _PARTS, each shaped (stretches, signals, bands) or broadcast to it."""
    source = stretches.source
    stereo = source.shape[1] == 3
    own = source[:, :2] if stereo else source
    spread = _spread(source)
    both = spread[:, : own.shape[1]].max(axis=1, keepdims=True)
    loudest = both.max(axis=2, keepdims=True)
    hiding = np.maximum(spread, loudest * _OF_LOUDEST)
    steps = stretches.constant[:, None, None] * _OF_CONSTANT
    np.maximum(hiding, steps, out=hiding)
    quiet = np.broadcast_to(np.maximum(np.maximum(_FLOOR, loudest * _QUIET_SHARE), steps), source.shape).copy()
    if own.shape[1] > 1:
        np.maximum(hiding[:, : own.shape[1]], both * _OF_OTHER_CHANNEL, out=hiding[:, : own.shape[1]])
    if stereo:
        np.maximum(hiding[:, 2:], both * _OF_CHANNELS, out=hiding[:, 2:])
        np.maximum(quiet[:, 2:], own.max(axis=1, keepdims=True) * _OF_CHANNELS, out=quiet[:, 2:])
    around = _loudest_around(own.max(axis=(1, 2)), _NEIGHBOURS)[:, None, None]
    return source, stretches.result, stretches.common, _spread(stretches.result), hiding + _INAUDIBLE, around, quiet


def level_bands_of(sample_rate: int, bands: int) -> NDArray[np.bool_]:
    """Bands whose level any encoder keeps."""
    highest = min(_LEVEL_HIGHEST_HZ, sample_rate * _LEVEL_HIGHEST_SHARE)
    return np.array([edge < highest for edge in BAND_EDGES_HZ[:bands]])


def _peak_sizes(sums: Doubles, span: int) -> Doubles:
    """How large the result is where the source is largest, in dB against the level of all the sound there; 0 where too
    little sounds. Shaped (times, channels)."""
    summed = _meant(sums, span)
    loud = _loudest_around(summed[..., 2].max(1), 2)[:, None]
    telling = summed[..., 2] > np.maximum(loud * _TELLING_STRETCH, _TELLING_ENERGY)
    # Where much is left out, peaks become smaller than the level does.
    telling &= summed[..., 4] > _KEPT_PEAKS * np.sqrt(summed[..., 2] * summed[..., 3])
    sizes = summed[..., 1] / (summed[..., 0] + 1e-12)
    levels = summed[..., 4] / (summed[..., 2] + 1e-12)
    ratio = 20 * np.log10(np.maximum(sizes, 1e-3) / np.maximum(levels, 1e-3))
    return np.asarray(np.where(telling, ratio, 0.0))


def _tone_figure(index: int, ratio: Doubles, hertz: Doubles, first: int, step: float) -> Figure:
    """Of ratios shaped (times, bins, channels), the largest of each time with its frequency."""
    most = ratio.max(2)
    return Figure(index=index, first=first, step=step, values=_db(most.max(1) + 1e-9), hertz=hertz[most.argmax(1)])


def _added_tones(stretches: Stretches, gain: float) -> tuple[Doubles, Doubles, Doubles]:
    """(what differs, what it may hide behind, their frequencies in Hz) in narrow bins below 400 Hz of every few seconds.
    The first two are shaped (times, bins, channels); empty where the sound is too short for them."""
    source, result = (sound.astype(np.float64) for sound in (stretches.slow_source, stretches.slow_result))
    length = _TONE_FFT
    while length > len(source) and length > _SHORTEST_TONE_FFT:
        length //= 2
    hertz = np.arange(length // 2 + 1) * stretches.slow_rate / length
    kept = (hertz >= _TONE_FROM_HZ) & (hertz < _TONE_TO_HZ)
    if length > len(source) or length < _SHORTEST_TONE_FFT:
        empty = np.zeros((0, int(kept.sum()), source.shape[1]))
        return empty, empty, hertz[kept]
    window = np.hanning(length)[:, None]
    scale = 4 / float(window.sum()) ** 2
    differing, hidden = [], []
    for start in range(0, len(source) - length + 1, length // 2):
        one = np.fft.rfft(source[start : start + length] * window, axis=0)
        other = np.fft.rfft(result[start : start + length] * window, axis=0)
        own = np.abs(one) ** 2 * scale
        loudest = own[hertz >= _TONE_FROM_HZ].max() * _TONE_OF_LOUDEST
        differing.append((np.abs(other - gain * one) ** 2 * scale)[kept])
        beside = own.copy()
        for step in range(1, _TONE_BESIDE + 1):
            np.maximum(beside[step:], own[:-step], out=beside[step:])
            np.maximum(beside[:-step], own[step:], out=beside[:-step])
        piece = source[start : start + length]
        slowest = float(np.abs(piece).max() ** 2) * _TONE_OF_LOUDEST
        constant = float((piece.mean(0) ** 2).max()) * _OF_CONSTANT
        floor = max(float(own[kept].mean(0).max()) * _TONE_OF_MEAN, float(loudest), constant, slowest)
        hidden.append(np.maximum(beside[kept], floor) + _TONE_INAUDIBLE)
    return np.array(differing), np.array(hidden), hertz[kept]
