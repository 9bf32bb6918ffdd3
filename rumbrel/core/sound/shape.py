"""The value that travels beside every stream of blocks."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "BLOCK_SAMPLES",
    "CHANNEL_ORDERS",
    "Block",
    "LOUDEST_VALUE",
    "SoundShape",
    "speakers_named",
    "speakers_of_mask",
    "tamed",
]

Block = NDArray[Any]
"""Shape (samples, channels). int16 up to 16 bit, int32 left-justified up to 32 bit, float32 or
float64 with full scale at 1.0. "Samples" counts sampling instants, not values."""

BLOCK_SAMPLES = 65_536
"""Samples a reader hands on at a time: large enough that Python's share of the work vanishes,
small enough (512 KiB of 32 bit stereo) to stay in the cache of one core."""


# FFmpeg's and WAVE's usual channel orders, by count.
CHANNEL_ORDERS = {
    1: ("C",),
    2: ("L", "R"),
    3: ("L", "R", "C"),
    4: ("L", "R", "Ls", "Rs"),
    5: ("L", "R", "C", "Ls", "Rs"),
    6: ("L", "R", "C", "LFE", "Ls", "Rs"),
    7: ("L", "R", "C", "LFE", "Cs", "Ls", "Rs"),
    8: ("L", "R", "C", "LFE", "Lb", "Rb", "Ls", "Rs"),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class SoundShape:
    """How the samples of a stream are to be read.

    depth_bits is the number of meaningful bits of an integer sample, 1 to 32; it is 0 for
    floating point, where the notion does not apply. speakers are the channels' names where the
    stream states them and we know them all, empty for the usual ones of their number.
    """

    sample_rate: int
    channels: int
    depth_bits: int
    speakers: tuple[str, ...] = ()

    @property
    def channel_positions(self) -> tuple[str, ...]:
        """The speakers, stated or usual; empty names where neither is known."""
        return self.speakers or CHANNEL_ORDERS.get(self.channels, ("",) * self.channels)

    @property
    def is_float(self) -> bool:
        return self.depth_bits == 0

    @property
    def dtype(self) -> "np.dtype[np.generic]":
        """The element type blocks of this shape arrive in."""
        if self.is_float:
            return np.dtype(np.float32)
        return np.dtype(np.int16 if self.depth_bits <= 16 else np.int32)


# FFmpeg's names, in the order of the bits of a channel mask (WAVE_FORMAT_EXTENSIBLE).
_MASK_NAMES = ("FL", "FR", "FC", "LFE", "BL", "BR", "FLC", "FRC", "BC", "SL", "SR")
_OUR_NAMES = {
    "FL": "L", "FR": "R", "FC": "C", "LFE": "LFE", "BL": "Ls", "BR": "Rs", "SL": "Ls", "SR": "Rs", "BC": "Cs",
}  # fmt: skip
_BEHIND = {"BL": "Lb", "BR": "Rb"}


def speakers_named(names: Sequence[str]) -> tuple[str, ...]:
    """Our names for FFmpeg's; empty when one is unknown. Back speakers are the surround ones where no side ones are."""
    table = _OUR_NAMES | _BEHIND if "SL" in names else _OUR_NAMES
    return tuple(table[name] for name in names) if all(name in table for name in names) else ()


def speakers_of_mask(mask: int, channels: int) -> tuple[str, ...]:
    """The speakers of a channel mask; empty when it is none for so many channels."""
    names = [name for bit, name in enumerate(_MASK_NAMES) if mask >> bit & 1]
    return speakers_named(names) if len(names) == channels and mask < 1 << len(_MASK_NAMES) else ()


LOUDEST_VALUE = float(1 << 20)
"""Beyond 120 dB above full scale nothing is measured: such values are faults, and sums of them would overflow."""


def tamed(block: Block) -> tuple[Block, int]:
    """(the block without what is no number, how many values were none). They become silence, infinite and absurd ones
    the loudest value; integers are what they are."""
    if block.dtype.kind != "f" or bool((np.abs(block) <= LOUDEST_VALUE).all()):
        return block, 0
    wrong = int(np.count_nonzero(~np.isfinite(block)))
    kept = np.nan_to_num(block, nan=0.0, posinf=LOUDEST_VALUE, neginf=-LOUDEST_VALUE)
    return np.clip(kept, -LOUDEST_VALUE, LOUDEST_VALUE), wrong
