"""The value that travels beside every stream of blocks."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["BLOCK_SAMPLES", "Block", "SoundShape"]

Block = NDArray[Any]
"""Shape (samples, channels). int16 up to 16 bit, int32 left-justified up to 32 bit, float32 or
float64 with full scale at 1.0. "Samples" counts sampling instants, not values."""

BLOCK_SAMPLES = 65_536
"""Samples a reader hands on at a time: large enough that Python's share of the work vanishes,
small enough (512 KiB of 32 bit stereo) to stay in the cache of one core."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SoundShape:
    """How the samples of a stream are to be read.

    depth_bits is the number of meaningful bits of an integer sample, 1 to 32; it is 0 for
    floating point, where the notion does not apply.
    """

    sample_rate: int
    channels: int
    depth_bits: int

    @property
    def is_float(self) -> bool:
        return self.depth_bits == 0

    @property
    def dtype(self) -> "np.dtype[np.generic]":
        """The element type blocks of this shape arrive in."""
        if self.is_float:
            return np.dtype(np.float32)
        return np.dtype(np.int16 if self.depth_bits <= 16 else np.int32)
