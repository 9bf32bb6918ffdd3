"""The 256 values of each law of ITU-T G.711, and which of them stands for a 16 bit sample.

libsndfile codes these values themselves as the standard does, but takes the neighbouring code for
samples at the edges of segments; so samples are put onto the values first.
"""

from functools import cache

import numpy as np
from numpy.typing import NDArray

__all__ = ["companded"]

_MU_BIAS, _MU_CLIP = 33, 8_191
_SEGMENT_ENDS_A = np.array([0x1F, 0x3F, 0x7F, 0xFF, 0x1FF, 0x3FF, 0x7FF])
_SEGMENT_ENDS_MU = np.array([0x3F, 0x7F, 0xFF, 0x1FF, 0x3FF, 0x7FF, 0xFFF])


def _a_law(samples: NDArray[np.int32]) -> NDArray[np.int32]:
    """G.711, table 1: 13 bit magnitudes, eight segments of which the first two have the same step."""
    linear = samples >> 3
    magnitude = np.where(linear < 0, -linear - 1, linear)
    segment = np.searchsorted(_SEGMENT_ENDS_A, magnitude)
    step = np.maximum(segment, 1)
    value = (magnitude >> step << step) + (1 << (step - 1))
    return np.asarray(np.where(linear < 0, -value, value) << 3)


def _mu_law(samples: NDArray[np.int32]) -> NDArray[np.int32]:
    """G.711, table 2: 14 bit magnitudes raised by 33, eight segments of doubling steps."""
    linear = samples >> 2
    magnitude = np.minimum(np.abs(linear), _MU_CLIP - _MU_BIAS) + _MU_BIAS
    step = np.searchsorted(_SEGMENT_ENDS_MU, magnitude) + 1
    value = (magnitude >> step << step) + (1 << (step - 1)) - _MU_BIAS
    return np.asarray(np.where(linear < 0, -value, value) << 2)


@cache
def _table(subtype: str) -> NDArray[np.int16]:
    law = {"ALAW": _a_law, "ULAW": _mu_law}[subtype]
    every = np.arange(65_536, dtype=np.uint16).astype(np.int16)
    return law(every.astype(np.int32)).astype(np.int16)


def companded(block: NDArray[np.int16], subtype: str) -> NDArray[np.int16]:
    """Each sample's value after coding by a law in libsndfile's name, ALAW or ULAW."""
    return _table(subtype)[block.view(np.uint16)]
