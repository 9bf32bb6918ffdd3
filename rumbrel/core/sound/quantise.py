"""From floating point to integers, with a choice of dither."""

from collections.abc import Iterator
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from .dither import FLAT, SHAPED_RATES
from .shape import Block

__all__ = ["Quantise"]

_SHAPING = "improved_e_weighted"
"""The filter of nine steps that follows the ear's threshold (Wannamaker, JAES 40(7/8), 1992), as FFmpeg has it."""

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
        self._shaper = _Shaper(depth_bits, sample_rate) if dither == "shaped" and sample_rate in SHAPED_RATES else None
        self.clipped_values = 0
        self.largest = 0.0

    def push(self, block: Block, *, last: bool = False) -> Block:
        full = float(1 << (self._depth - 1))
        wanted = block * full
        scaled = np.rint(wanted)
        if self._dithers:
            scaled = self._dithered(block, wanted, scaled)
        limited: Block = np.clip(scaled, -full, full - 1)
        clipped = int(np.count_nonzero(np.abs(scaled - limited) > 1))
        if clipped:
            self.clipped_values += clipped
            self.largest = max(self.largest, float(np.abs(scaled).max()) / full)
        integers: Block = limited.astype(self._dtype)
        return integers << self._shift

    def _dithered(self, block: Block, wanted: Block, rounded: Block) -> Block:
        lossy = _lossy_stretches(wanted, rounded)
        if not lossy.any():
            return rounded
        dithered = np.repeat(lossy, _DITHERED_SAMPLES)[: len(block), None]
        if self._shaper is not None:
            # What lies beyond full scale is for the one who limits and counts.
            within = np.abs(wanted) < self._shaper.full - _SHAPED_ROOM
            return np.where(dithered & within, self._shaper.push(block), rounded)
        noise = self._noise.random(block.shape, dtype=np.float32)
        noise -= self._noise.random(block.shape, dtype=np.float32)
        return np.where(dithered, np.rint(wanted + noise), rounded)


def _lossy_stretches(wanted: Block, rounded: Block) -> NDArray[np.bool_]:
    """Whether rounding changes anything in each stretch of a block. Where it does not there is nothing to dither:
    digital silence stays silent, and fewer bits in a deeper container come out as they went in."""
    starts = np.arange(0, len(wanted), _DITHERED_SAMPLES)
    if not len(starts):
        return np.zeros(0, dtype=bool)
    return np.logical_or.reduceat((wanted != rounded).any(axis=1), starts)


_SHAPED_ROOM = 64
"""LSB below full scale in which the shaped noise may lie: nothing of it is limited unsaid."""


class _Shaper:
    """The shaped rounding of FFmpeg's resampler, at the same rate: each block comes out whole."""

    def __init__(self, depth_bits: int, sample_rate: int) -> None:
        self.full = float(1 << (depth_bits - 1))
        self._shift = 32 - depth_bits
        self._depth = depth_bits
        self._rate = sample_rate
        self._at = 0
        self._graph: Any = None

    def push(self, block: Block) -> Block:
        """A block in fractions of full scale to whole LSB, shaped as it is."""
        layout = {1: "mono", 2: "stereo"}.get(block.shape[1], f"{block.shape[1]}c")
        if self._graph is None:
            self._graph = self._opened(layout)
        packed = np.ascontiguousarray(block, dtype=np.float64).reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(packed, format="dbl", layout=layout)
        frame.sample_rate, frame.pts = self._rate, self._at
        self._at += len(block)
        self._graph.push(frame)
        out = np.concatenate([piece.reshape(-1, block.shape[1]) for piece in self._ready()])
        return (out >> self._shift).astype(np.float64)

    def _opened(self, layout: str) -> Any:
        graph = av.filter.Graph()
        source = graph.add(
            "abuffer", f"sample_rate={self._rate}:sample_fmt=dbl:channel_layout={layout}:time_base=1/{self._rate}"
        )
        shaping = graph.add(
            "aresample", f"osf=s32:tsf=dblp:dither_method={_SHAPING}:output_sample_bits={self._depth}"
        )  # fmt: skip
        sink = graph.add("abuffersink")
        source.link_to(shaping)
        shaping.link_to(sink)
        graph.configure()
        return graph

    def _ready(self) -> Iterator[Block]:
        while True:
            try:
                yield self._graph.pull().to_ndarray()
            except (BlockingIOError, EOFError):
                return
