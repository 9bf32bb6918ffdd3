"""A digest of the samples themselves, whatever container they are in."""

import numpy as np
import xxhash

from .shape import Block, SoundShape

__all__ = ["SampleDigest", "digest_bits"]


def digest_bits(shape: SoundShape) -> int:
    """The width that holds samples of a shape: 16, or 32 for deeper ones and for floating point."""
    return 16 if 0 < shape.depth_bits <= 16 else 32


class SampleDigest:
    """XXH3 of 128 bits over interleaved little-endian samples, left-justified in 16 or 32 bits.

    Two integer streams with the same rate and channels have the same digest exactly when every
    sample is equal, though one may be stored with more zero bits: choose width_bits to hold the
    deeper of the two. Floating point blocks are taken as 32 bit floats. The digest finds errors, not
    forgeries: it is there to compare what this machine wrote with what it reads, many times faster
    than a cryptographic one could.
    """

    def __init__(self, width_bits: int) -> None:
        if width_bits not in (16, 32):
            raise ValueError("width_bits must be 16 or 32")
        self.width_bits = width_bits
        self._wide = width_bits == 32
        self._hash = xxhash.xxh3_128()
        self.samples = 0

    def push(self, block: Block) -> None:
        """Add a block shaped (samples, channels)."""
        self.samples += len(block)
        if block.dtype.kind == "f":
            block = block.astype("<f4", copy=False)
        elif self._wide and block.dtype == np.int16:
            block = block.astype(np.int32) << 16
        elif not self._wide and block.dtype == np.int32:
            raise ValueError("a 16 bit digest cannot take 32 bit samples")
        self._hash.update(np.ascontiguousarray(block).data)

    def hexdigest(self) -> str:
        return self._hash.hexdigest()
