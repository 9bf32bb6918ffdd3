"""Looks through a sound for the frames of a lossy codec, in the stretches where their traces show best."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .frame_grid import SEGMENT_SAMPLES, FrameTrace, find_traces
from .shape import SoundShape

__all__ = ["LossFinder", "LossTrace"]

_CANDIDATES = 24
_STRETCHES, _MOST_STRETCHES = 3, 8
"""So many are looked at, and so many where the first ones give a hint."""
_HINT = 4.5
_CERTAIN = 14.0
"""Standard deviations beyond which one stretch is proof; sound that was never coded stays below 12."""
_TELLING, _TOGETHER = 5.0, 3
"""Enough where so many stretches have their frames at the very same places: chance puts three given ones there once in
330,000 times."""
_SLOW_RATES = (44_100, 48_000)
_MOST_CHANNELS = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class LossTrace:
    """coding has left its frames in the sound, hop samples apart and the first at offset, counted at sample_rate. score is
    how many standard deviations the place of the frames stands out by, in the clearest of the stretches; places are where
    these begin, in seconds."""

    coding: str
    hop: int
    offset: int
    sample_rate: int
    score: float
    places: tuple[float, ...]


@dataclass(slots=True)
class _Stretch:
    """A part of the sound, as one array a channel; treble is how much of it there is to look at."""

    start: int
    sound: NDArray[np.float32]
    treble: float


class LossFinder:
    """Push blocks of floating point in their order; trace() then searches what was kept of them."""

    def __init__(self, shape: SoundShape, samples: int) -> None:
        """samples is about how long the sound will be."""
        # High rates are looked at as if they had been raised from half or a quarter.
        self._factor = next((part for part in (1, 2, 4) if shape.sample_rate // part in _SLOW_RATES), 1)
        self._rate = shape.sample_rate // self._factor
        self._length = SEGMENT_SAMPLES * self._factor
        spacing = max(self._length, samples // _CANDIDATES)
        # Whole samples also at half and at a quarter of the rate.
        self._spacing = spacing - spacing % 4
        self._kept: list[_Stretch] = []
        self._pending: list[NDArray[np.float32]] = []
        self._held = 0
        self._at = 0
        self._next = 0

    def push(self, values: NDArray[np.float64]) -> None:
        """Values shaped (samples, channels)."""
        start, end = self._at, self._at + len(values)
        self._at = end
        while self._next < end:
            low = max(start, self._next + self._held)
            high = min(end, self._next + self._length)
            if low < high:
                piece = values[low - start : high - start, :_MOST_CHANNELS]
                self._pending.append(piece.astype(np.float32))
                self._held += len(piece)
            if self._held < self._length:
                return
            self._take(np.concatenate(self._pending))
            self._pending, self._held = [], 0
            self._next += self._spacing

    def _take(self, sound: NDArray[np.float32]) -> None:
        treble = float(np.abs(np.diff(sound, n=2, axis=0)).mean())
        self._kept.append(_Stretch(self._next, sound, treble))
        self._kept.sort(key=lambda stretch: -stretch.treble)
        del self._kept[_MOST_STRETCHES:]

    def trace(self) -> LossTrace | None:
        """What proves that the sound was coded with loss; None where nothing does."""
        found: list[tuple[float, FrameTrace]] = []
        for number, stretch in enumerate(self._kept):
            if number >= _STRETCHES and max((trace.score for _, trace in found), default=0.0) < _HINT:
                return None
            for channel in range(stretch.sound.shape[1]):
                start, part = self._slow(stretch, channel)
                for trace in find_traces(part, self._rate, start=start):
                    found.append((start / self._rate, trace))
            if proved := self._proved(found):
                return proved
        return None

    def _slow(self, stretch: _Stretch, channel: int) -> tuple[int, NDArray[np.float32]]:
        part = np.ascontiguousarray(stretch.sound[:, channel])
        if self._factor == 1:
            return stretch.start, part
        import soxr

        slow = soxr.resample(part, self._factor, 1, quality="VHQ")
        whole = np.zeros(SEGMENT_SAMPLES, np.float32)
        whole[: min(len(slow), SEGMENT_SAMPLES)] = slow[:SEGMENT_SAMPLES]
        return stretch.start // self._factor, whole

    def _proved(self, found: list[tuple[float, FrameTrace]]) -> LossTrace | None:
        for _, best in sorted(found, key=lambda each: -each[1].score):
            same = [
                (place, trace) for place, trace in found
                if trace.score >= _TELLING and (trace.coding, trace.offset) == (best.coding, best.offset)
            ]  # fmt: skip
            if best.score >= _CERTAIN or len({place for place, _ in same}) >= _TOGETHER:
                return LossTrace(
                    coding=best.coding, hop=best.hop, offset=best.offset, sample_rate=self._rate,
                    score=round(best.score, 1), places=tuple(sorted({round(place, 2) for place, _ in same})),
                )  # fmt: skip
        return None
