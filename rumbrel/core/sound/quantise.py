"""From floating point to integers, with a choice of dither."""

from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from .dither import FLAT, SHAPED_RATES
from .shape import Block

__all__ = ["Quantise"]

_SHAPING = (2.847, -4.685, 6.214, -7.184, 6.639, -5.032, 3.263, -1.632, 0.4191)
"""Weights of the last errors: the filter of nine steps that follows the ear's threshold (Wannamaker, JAES 40(7/8), 1992,
from memory; that its spectrum has the right shape and mean is measured in the tests)."""

_DITHERED_SAMPLES = 512
"""Dither is begun and ended in stretches of so many samples (our own choice)."""


class Quantise:
    """Values beyond full scale are limited and counted, so that the report can say so.

    Flat dither is triangular, of 2 LSB peak to peak, drawn the same at every run: total noise power is LSB^2/4
    (STANDARDS: samples). Shaped dither has the same power on average over the logarithm of the spectrum (Gerzon and
    Craven, AES preprint 2822, 1989); rates that it was not made for get the flat one.
    """

    def __init__(self, depth_bits: int, sample_rate: int, dither: str = FLAT) -> None:
        self._depth = depth_bits
        self._dtype = np.int16 if depth_bits <= 16 else np.int32
        self._shift = (16 if depth_bits <= 16 else 32) - depth_bits
        self._noise = np.random.Generator(np.random.SFC64(0x52756D))
        self._dithers = dither != "none"
        self._shaper = _Shaper(self._noise) if dither == "shaped" and sample_rate in SHAPED_RATES else None
        self.clipped_values = 0
        self.largest = 0.0

    def push(self, block: Block, *, last: bool = False) -> Block:
        full = float(1 << (self._depth - 1))
        wanted = block * full
        scaled = np.rint(wanted)
        if self._dithers:
            scaled = self._dithered(wanted, scaled)
        limited: Block = np.clip(scaled, -full, full - 1)
        clipped = int(np.count_nonzero(np.abs(scaled - limited) > 1))
        if clipped:
            self.clipped_values += clipped
            self.largest = max(self.largest, float(np.abs(scaled).max()) / full)
        integers: Block = limited.astype(self._dtype)
        return integers << self._shift

    def _dithered(self, wanted: Block, rounded: Block) -> Block:
        lossy = _lossy_stretches(wanted, rounded)
        if not lossy.any():
            return rounded
        dithered = np.repeat(lossy, _DITHERED_SAMPLES)[: len(wanted), None]
        if self._shaper is not None:
            # What lies beyond full scale is for the one who limits and counts.
            full = float(1 << (self._depth - 1))
            shaped = np.clip(self._shaper.push(wanted), -full, full - 1)
            return np.where(dithered & (np.abs(wanted) < full), shaped, rounded)
        noise = self._noise.random(wanted.shape, dtype=np.float32)
        noise -= self._noise.random(wanted.shape, dtype=np.float32)
        return np.where(dithered, np.rint(wanted + noise), rounded)


def _lossy_stretches(wanted: Block, rounded: Block) -> NDArray[np.bool_]:
    """Whether rounding changes anything in each stretch of a block. Where it does not there is nothing to dither:
    digital silence stays silent, and fewer bits in a deeper container come out as they went in."""
    starts = np.arange(0, len(wanted), _DITHERED_SAMPLES)
    if not len(starts):
        return np.zeros(0, dtype=bool)
    return np.logical_or.reduceat((wanted != rounded).any(axis=1), starts)


class _Shaper:
    """Rounding whose error is fed back through a filter, so that the noise lies where the ear is least keen.

    FFmpeg's expressions carry the loop out, a channel each; its resampler's own shaping changes the level of the sound.
    """

    def __init__(self, noise: np.random.Generator) -> None:
        self._noise = noise
        self._graphs: list[Any] = []

    def push(self, wanted: Block) -> Block:
        """A block in LSB to whole ones, with triangular dither of 2 LSB peak to peak; values may lie beyond full scale."""
        if not self._graphs:
            self._graphs = [_feedback_graph() for _ in range(wanted.shape[1])]
        noise = self._noise.random(wanted.shape) - self._noise.random(wanted.shape)
        return np.column_stack([
            _through(graph, np.stack((wanted[:, at], noise[:, at]))) for at, graph in enumerate(self._graphs)
        ])  # fmt: skip


_STATES = len(_SHAPING)
"""Errors kept, in the variables 0 and up of an expression; the value to be rounded is in the one behind them."""


def _feedback_graph() -> Any:
    """Takes (value, dither) as two channels, gives the rounded value as one. The rate is of no consequence here."""
    fed_back = "+".join(f"{weight}*ld({at})" for at, weight in enumerate(_SHAPING))
    older = ";".join(f"st({at},ld({at - 1}))" for at in range(_STATES - 1, 0, -1))
    value = f"ld({_STATES})"
    expression = f"st({_STATES},val(0)-({fed_back}));{older};st(0,round({value}+val(1))-{value})+{value}"
    graph = av.filter.Graph()
    source = graph.add("abuffer", "sample_rate=48000:sample_fmt=dblp:channel_layout=stereo:time_base=1/48000")
    loop = graph.add("aeval", exprs=expression, channel_layout="mono")
    sink = graph.add("abuffersink")
    source.link_to(loop)
    loop.link_to(sink)
    graph.configure()
    return graph


def _through(graph: Any, values: NDArray[np.float64]) -> NDArray[np.float64]:
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(values), format="dblp", layout="stereo")
    frame.sample_rate = 48_000
    graph.push(frame)
    # The value back from its error: whole, but for the last place of the addition.
    rounded: NDArray[np.float64] = np.rint(graph.pull().to_ndarray()[0])
    return rounded
