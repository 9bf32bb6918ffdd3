"""The verdict on a lossy result: every stretch of it against its source, by what its encoder is known to leave.

The figures of measures.py are held against the limits of limits.py. What goes beyond them is added up over the bands of a
stretch, so that a little too much in one band is let pass and a little in many is not.
"""

import math
from dataclasses import dataclass
from itertools import repeat

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.verdict import Verdict

from ..level import as_float
from ..shape import Block, SoundShape
from .bands import BAND_EDGES_HZ, Stretches, StretchMaker, band_count, frame_samples
from .limits import UNKNOWN, Limits
from .measures import CLASSES, FIGURES, LOUDER, QUIETER, SPANS, Found, Measured, Measurer

__all__ = ["Comparison", "Likeness", "Place"]

Floats = NDArray[np.float32]

_SLACKS = np.array([3.0, 3.0, 2.0])[:, None, None]
"""dB, by measure (measures.BAND_MEASURES), that a band may lie beyond its limit: no table has seen everything."""
_MOST_OF_A_BAND_DB = 15.0
_DOUBTFUL, _REFUSED = 7.0, 15.0
"""dB beyond the limits, summed over the bands of a stretch."""
_SUSPICIOUS_BELOW_DB = 1.0
"""So far below a limit a band is noticed: what is wrong in a way that the coding might have made lies there."""
_FIGURE_WEIGHTS = {"level": (10.0, 0.2), "peaks": (12.0, 0.15), "tone": (2.0, 2.0)}
"""What a dB beyond the limit of a single figure counts, and how many dB are let pass."""
_LOST_DB = 15.0
_SHORTEST_FRAMES = 4
_SILENCE_DB, _LOUD_STRETCH = 25.0, 1e-3
_TELLING_DIFFERENCE = 1e-4
_SAME_SOUND = 0.5
_EQUAL_CHANNELS_DB = -40.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A stretch of a sound, in seconds from its beginning."""

    start_seconds: float
    end_seconds: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """difference_db is the energy of what differs against that of the source, peak_dbfs the largest value of the result.
    compared_samples were held against each other; suspicious says that something of it comes near what its encoder leaves
    at worst, tells that there was enough to go by. excess is how far the worst stretch goes beyond what its encoder
    leaves, at worst (beyond 7 it is doubtful, beyond 15 failed); text says what is wrong there, "" where nothing is."""

    verdict: Verdict
    difference_db: float
    peak_dbfs: float
    compared_samples: int
    excess: float = 0.0
    worst: Place | None = None
    text: str = ""
    suspicious: bool = False
    tells: bool = True


@dataclass(frozen=True, slots=True)
class _Worst:
    """What goes furthest beyond its limits so far."""

    score: float
    start: float
    end: float
    text: str


_NOTHING = _Worst(0.0, 0.0, 0.0, "")


class Comparison:
    """Push blocks of the source as the encoder was given it, and of the result from the same sample on, in any order;
    then ask for the likeness. limits None says that nothing is known of the encoder.

    Where the encoder made a result of the same source once more, to compare with, its blocks are pushed too (again): what
    that leaves is the limit then, stretch by stretch.
    """

    def __init__(self, shape: SoundShape, limits: Limits | None, *, again: bool = False) -> None:
        self._shape, self._limits = shape, limits
        self._stereo = shape.channels == 2
        bands = band_count(shape.sample_rate)
        self._maker = StretchMaker(shape.sample_rate, shape.channels)
        self._maker_again = StretchMaker(shape.sample_rate, shape.channels) if again else None
        self._gain = limits.gain if limits else 1.0
        level = limits.level_bands[:bands] if limits else np.zeros(bands, dtype=bool)
        level = np.concatenate([level, np.zeros(bands - len(level), dtype=bool)])
        self._measurer = Measurer(shape.channels, gain=self._gain, level_bands=level)
        self._measurer_again = Measurer(shape.channels, gain=self._gain, level_bands=level)
        self._band_limits = _fitted(limits.bands, bands) if limits else None
        self._figure_limits = limits.figures if limits else np.zeros(len(FIGURES))
        self._waiting: tuple[list[Floats], ...] = ([], [], []) if again else ([], [])
        self._counts = [0, 0, 0]
        self._suspicious = False
        self._worst = _NOTHING
        self._sums = np.zeros((shape.channels, 6))
        self._of_signals = np.zeros((3, 3))
        self._silence: _Worst | None = None
        self._seconds = 0.0
        self._result_samples = 0

    def push_source(self, block: Block) -> None:
        self._push(0, block)

    def push_result(self, block: Block) -> None:
        self._push(1, block)

    def push_again(self, block: Block) -> None:
        self._push(2, block)

    @property
    def ahead_samples(self) -> int:
        """How many samples of the result came for which the source is still awaited; negative the other way round."""
        return self._counts[1] - self._counts[0]

    @property
    def ahead_of_other_samples(self) -> int:
        """The same for what the encoder made once more."""
        return self._counts[1] - self._counts[2]

    def _push(self, which: int, block: Block) -> None:
        if not len(block):
            return
        self._waiting[which].append(np.asarray(as_float(block) if block.dtype.kind == "i" else block, np.float32))
        self._counts[which] += len(block)
        count = min(sum(map(len, side)) for side in self._waiting)
        if count:
            source, result, *again = (_taken(side, count) for side in self._waiting)
            chunks = list(self._maker.push(source, result))
            others = list(self._maker_again.push(source, *again)) if self._maker_again else repeat(None, len(chunks))
            for stretches, other in zip(chunks, others, strict=True):
                self._look(stretches, other)

    def _look(self, stretches: Stretches, again: Stretches | None) -> None:
        self._sums += stretches.sums.sum(0)
        # The largest value is no sum.
        self._sums[:, 5] = np.maximum(self._sums[:, 5] - stretches.sums[:, :, 5].sum(0), stretches.sums[:, :, 5].max(0))
        if self._stereo:
            parts = (stretches.source, stretches.result, stretches.common)
            self._of_signals += [part.sum(axis=(0, 2)) for part in parts]
        self._seconds = stretches.stretch_seconds
        if self._silence is None:
            self._note_silence(stretches)
        self._judge(self._measurer.chunk(stretches), self._measurer_again.chunk(again) if again else None)

    def _judge(self, found: Found, again: Found | None) -> None:
        if again is None and self._band_limits is None:
            return
        for number, measured in enumerate(found.bands):
            self._judge_bands(measured, again.bands[number].bands if again else None)
        for number, figure in enumerate(found.figures):
            name = FIGURES[figure.index]
            weight, slack = _FIGURE_WEIGHTS[name.split()[0]]
            limit = again.figures[number].values if again else self._figure_limits[figure.index]
            self._suspicious |= bool((figure.values > limit).any())
            beyond = (figure.values - limit - slack) * weight
            at = int(np.argmax(beyond))
            if beyond[at] > self._worst.score:
                hertz = float(figure.hertz[at]) if figure.hertz is not None else 0.0
                start = (figure.first + at * figure.step) * self._seconds
                text = _figure_said(name, float(figure.values[at]), hertz)
                self._worst = _Worst(float(beyond[at]), start, start + figure.step * self._seconds, text)

    def _allowed(self, measured: Measured, signal: int) -> NDArray[np.float64]:
        """What the table allows each measure, time and band of a signal."""
        assert self._band_limits is not None
        kind = 1 if self._stereo and signal == 2 else 0
        allowed = self._band_limits[:, SPANS.index(measured.span), kind]
        return np.take_along_axis(allowed[:, :, None, :], measured.classes[None, None, :, signal], axis=1)[:, 0]

    def _judge_bands(self, measured: Measured, again: NDArray[np.float64] | None) -> None:
        for signal in range(measured.bands.shape[2]):
            chosen = self._allowed(measured, signal) if again is None else again[:, :, signal]
            near = (measured.bands[:, :, signal] > chosen - _SUSPICIOUS_BELOW_DB) & (chosen > UNKNOWN)
            self._suspicious |= bool(near.any())
            beyond = np.clip(measured.bands[:, :, signal] - chosen - _SLACKS, 0, _MOST_OF_A_BAND_DB)
            beyond[chosen <= UNKNOWN] = 0
            scores = beyond.sum(-1)
            measure, at = np.unravel_index(int(np.argmax(scores)), scores.shape)
            if scores[measure, at] <= self._worst.score:
                continue
            span = measured.span or math.inf
            start = (measured.first + at * span) * self._seconds if measured.span else 0.0
            end = start + span * self._seconds if measured.span else self._counts[0] / self._shape.sample_rate
            classes = measured.classes[at, signal]
            text = self._band_said(
                int(measure), measured.bands[:, at, signal], classes, beyond[int(measure), at], signal
            )
            self._worst = _Worst(float(scores[measure, at]), start, end, text)

    def _note_silence(self, stretches: Stretches) -> None:
        """The first place where a channel of the result is silent and the source's is not: it says more than bands do."""
        before, after = stretches.sums[..., 2], stretches.sums[..., 3]
        loud = before > before.max() * _LOUD_STRETCH
        gone = loud & (after < before * 10 ** (-_SILENCE_DB / 10))
        for channel in range(gone.shape[1]):
            places = np.flatnonzero(gone[:, channel])
            if not len(places) or self._silence is not None:
                continue
            apart = np.flatnonzero(np.diff(places) > 1)
            last = places[apart[0]] if len(apart) else places[-1]
            both = not self._stereo or bool(gone[places[0]].all())
            name = "" if both else ("left channel: ", "right channel: ")[channel]
            start, end = (float((stretches.first + at) * stretches.stretch_seconds) for at in (places[0], last + 1))
            self._silence = _Worst(0.0, start, end, f"{name}silence where the source has sound")

    def _band_said(self, measure: int, values: np.ndarray, classes: np.ndarray, beyond: np.ndarray, signal: int) -> str:
        where = "" if not self._stereo else ("left channel: ", "right channel: ", "")[signal]
        over = np.flatnonzero(beyond > 0)
        low, high = BAND_EDGES_HZ[int(over[0])], int(over[-1]) + 1
        to = BAND_EDGES_HZ[high] if high < len(values) else None
        strong = values[QUIETER, classes < CLASSES - 1]
        lost = bool(len(strong)) and float(strong.min()) > _LOST_DB
        if measure == QUIETER and self._stereo and signal == 2:
            return "the difference of the two channels is missing"
        if lost and signal < 2:
            return f"{where}silence where the source has sound"
        if measure == QUIETER:
            if to is None or high >= len(values) - 3 or to >= 14_000:
                return f"{where}missing treble above {_hertz(low)}"
            return f"{where}missing sound between {_hertz(low)} and {_hertz(to)}"
        band = f" above {_hertz(low)}" if to is None else f" between {_hertz(low)} and {_hertz(to)}"
        band = "" if over[0] <= 1 and len(over) > len(values) / 2 else band
        if measure == LOUDER:
            return f"{where}sound that the source does not have{band}"
        return f"{where}other sound than the source's{band}"

    def likeness(self) -> Likeness:
        """The verdict, once both were pushed whole."""
        chunks = list(self._maker.finish())
        others = list(self._maker_again.finish()) if self._maker_again else repeat(None, len(chunks))
        for stretches, other in zip(chunks, others, strict=True):
            self._look(stretches, other)
        self._judge(self._measurer.whole(), self._measurer_again.whole() if self._maker_again else None)
        source, result, common = (float(self._sums[:, part].sum()) for part in (2, 3, 4))
        differing = max(source + result - 2 * common, 0.0)
        difference = 10 * math.log10(max(differing, 1e-12) / source) if source else 0.0
        peak = float(self._sums[:, 5].max(initial=0.0))
        samples = min(self._counts[:2])
        score = self._worst.score
        verdict = Verdict.FAILED if score > _REFUSED else Verdict.DOUBTFUL if score > _DOUBTFUL else Verdict.PASSED
        text, tells = "" if verdict is Verdict.PASSED else self._worst.text, True
        if (
            not self._maker_again
            and verdict is Verdict.FAILED
            and samples < _SHORTEST_FRAMES * frame_samples(self._shape.sample_rate)
        ):
            # The first and the last frame are others than those between, of which there are none.
            verdict, text, tells = Verdict.DOUBTFUL, "it is too short to be compared closely", False
        if self._limits is None and not self._maker_again:
            verdict, text, tells = Verdict.DOUBTFUL, "nothing is known of what this encoder leaves", False
        place = self._worst
        if verdict is Verdict.FAILED:
            of_all = self._said_of_all()
            if not of_all and self._silence is not None:
                place, text = self._silence, self._silence.text
            text = of_all or text
        return Likeness(
            verdict=verdict, difference_db=round(max(difference, -120.0), 1),
            peak_dbfs=round(20 * math.log10(peak), 2) if peak > 0 else -math.inf, compared_samples=samples,
            excess=round(self._worst.score, 1), worst=Place(start_seconds=place.start, end_seconds=place.end)
            if self._worst.score else None, text=text, suspicious=self._suspicious, tells=tells,
        )  # fmt: skip

    def _said_of_all(self) -> str:
        """What holds for all of the sound says more than its worst stretch."""
        if not self._stereo:
            energies, results, commons = (self._sums[:, part] for part in (2, 3, 4))
            along = commons / np.sqrt(energies * results + 1e-30)
            return "the polarity is inverted" if (along < -_SAME_SOUND).all() else ""
        # What is equal in both channels, beside half their difference.
        aside = self._of_signals[:, 2]
        middle = self._of_signals[:, :2].sum(1) / 2 - aside
        along_middle, along_aside = (
            float(common / math.sqrt(max(source * result, 0) + 1e-30)) for source, result, common in (middle, aside)
        )
        telling = aside[0] > middle[0] * _TELLING_DIFFERENCE
        if along_middle < -_SAME_SOUND and (along_aside < -_SAME_SOUND or not telling):
            return "the polarity is inverted"
        if telling and along_aside < -_SAME_SOUND < along_middle:
            return "the channels are swapped"
        if telling and aside[1] < aside[0] * 10 ** (_EQUAL_CHANNELS_DB / 10):
            return "both channels are equal, and those of the source are not"
        return ""


def _fitted(limits: NDArray[np.float64], bands: int) -> NDArray[np.float64]:
    """Limits for so many bands; those that were not measured are unknown."""
    fitted = np.full((*limits.shape[:-1], bands), UNKNOWN)
    count = min(bands, limits.shape[-1])
    fitted[..., :count] = limits[..., :count]
    return fitted


def _taken(side: list[Floats], count: int) -> Floats:
    """So many samples from the front of a list of blocks."""
    taken = []
    while count:
        block = side.pop(0)
        if len(block) > count:
            side.insert(0, block[count:])
            block = block[:count]
        taken.append(block)
        count -= len(block)
    return taken[0] if len(taken) == 1 else np.concatenate(taken)


def _hertz(value: float) -> str:
    return f"{value / 1000:g} kHz" if value >= 1000 else f"{value:g} Hz"


def _figure_said(name: str, value: float, hertz: float) -> str:
    if name.startswith("level"):
        return f"the level is {value:.1f} dB {'higher' if name.endswith('up') else 'lower'} than the source's"
    if name.startswith("peaks"):
        return "its peaks are cut off" if "smaller" in name else "its peaks are larger than the source's"
    return f"a hum at {hertz:.0f} Hz"
