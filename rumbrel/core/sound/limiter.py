"""A limiter for true peaks, which looks ahead: only where the user asks for one.

By hops of a millisecond: how far the loudest point of each, between the samples too, is above the ceiling;
a gain that goes down in even steps before such a hop and comes back slowly after it. The gain is the same for
all channels, and drawn as straight lines between the hops, so that it never rises above what a hop allows.
"""

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from .shape import Block, SoundShape

__all__ = ["Limiter"]

Float = NDArray[np.float64]

_HOPS_A_SECOND = 1000
_ATTACK_HOPS = 6
_RELEASE_SECONDS = 0.12
_OVERSAMPLING = 4
_TAPS_A_PHASE = 24
_MARGIN_DB = 0.2
"""A gain that moves lifts what lies between the samples by a little: 0.15 dB at most in noise (measured)."""


class Limiter:
    """A stage: push blocks of floats shaped (samples, channels) of a shape; the last push hands out what is left.

    lowest_gain is the least gain that was needed so far, 1.0 where nothing was.
    """

    def __init__(self, shape: SoundShape, ceiling_dbtp: float) -> None:
        from scipy import signal

        self._upfirdn = signal.upfirdn
        self._ceiling = 10 ** ((ceiling_dbtp - _MARGIN_DB) / 20)
        self._hop = max(1, shape.sample_rate // _HOPS_A_SECOND)
        self._taps = (
            signal.firwin(_TAPS_A_PHASE * _OVERSAMPLING + 1, 1 / _OVERSAMPLING, window=("kaiser", 8.0)) * _OVERSAMPLING
        )
        self._held = np.zeros((0, shape.channels))
        self._before = np.zeros((_TAPS_A_PHASE, shape.channels))
        self._gain, self._edge = 1.0, 1.0
        self._recover = 1 - math.exp(-1 / (_RELEASE_SECONDS * _HOPS_A_SECOND))
        self.lowest_gain = 1.0

    def push(self, block: Block, *, last: bool = False) -> Block:
        """What is settled: everything but the look-ahead, or all of it at the end."""
        held = np.concatenate([self._held, block])
        hops = len(held) // self._hop
        ready = -(-len(held) // self._hop) if last else max(0, hops - _ATTACK_HOPS - 1)
        if not ready:
            self._held = held
            return np.zeros((0, held.shape[1]))
        allowed = self._allowed(held, last=last)
        gains = self._settled(allowed, ready)
        length = min(len(held), ready * self._hop)
        out = held[:length] * self._drawn(gains, ready)[:length, None]
        self._before = np.concatenate([self._before, held[:length]])[-_TAPS_A_PHASE:]
        self._held = held[length:]
        return np.asarray(out)

    def _allowed(self, held: Float, *, last: bool) -> Float:
        """The gain that each hop allows, its own points and those between them."""
        padded = np.concatenate([self._before, held, np.zeros((_TAPS_A_PHASE, held.shape[1]))])
        between = np.abs(self._upfirdn(self._taps, np.ascontiguousarray(padded.T), up=_OVERSAMPLING)).max(0)
        # The filter's delay is half its length; what lies before the held samples is cut.
        start = _TAPS_A_PHASE * _OVERSAMPLING + _TAPS_A_PHASE * _OVERSAMPLING // 2
        peaks = np.maximum(
            np.abs(held).max(1), between[start : start + len(held) * _OVERSAMPLING].reshape(-1, _OVERSAMPLING).max(1)
        )
        whole = -(-len(held) // self._hop) if last else len(held) // self._hop
        padded_peaks = np.zeros(whole * self._hop)
        count = min(len(peaks), len(padded_peaks))
        padded_peaks[:count] = peaks[:count]
        loudest = padded_peaks.reshape(whole, self._hop).max(1)
        return np.asarray(np.minimum(1.0, self._ceiling / np.maximum(loudest, 1e-12)))

    def _settled(self, allowed: Float, ready: int) -> Sequence[float]:
        """Gains of the hops that are ready and of the one behind them: down in time, back slowly."""
        ahead = np.concatenate([allowed, np.ones(_ATTACK_HOPS + 1)])
        steps = np.arange(_ATTACK_HOPS + 1) / _ATTACK_HOPS
        views = np.lib.stride_tricks.sliding_window_view(ahead, _ATTACK_HOPS + 1)[: ready + 1]
        wanted = (views + (1 - views) * steps).min(1)
        gains = []
        for each in wanted:
            self._gain = min(float(each), self._gain + (1 - self._gain) * self._recover)
            gains.append(self._gain)
        # The one behind is settled again with what comes then.
        self._gain = gains[ready - 1]
        self.lowest_gain = min(self.lowest_gain, min(gains[:ready]))
        return gains

    def _drawn(self, gains: Sequence[float], ready: int) -> Float:
        """Straight lines between the edges of hops, at each edge the lower gain of its two."""
        values = np.array(gains[: ready + 1])
        if len(values) <= ready:
            values = np.append(values, values[-1])
        edges = np.concatenate([[min(self._edge, values[0])], np.minimum(values[:-1], values[1:])])
        self._edge = float(edges[-1])
        ramp = np.arange(self._hop) / self._hop
        return np.asarray((edges[:-1, None] + (edges[1:] - edges[:-1])[:, None] * ramp).ravel())
