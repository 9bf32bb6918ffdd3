"""Vorbis in Ogg, written by libsndfile: its libvorbis encoder is the reference one."""

from pathlib import Path

import numpy as np

from rumbrel.core.sound.shape import Block, SoundShape

from .plain import PlainEncoder
from .settings import EncoderSettings

__all__ = ["open_vorbis"]

# libsndfile keeps a block's working copy on the stack: larger writes overrun it.
_SAMPLES_A_WRITE = 2048
# Which of our channels (in WAV's order) is which of Vorbis's, by their number (Vorbis I, 4.3.9).
_ORDER = {
    3: (0, 2, 1),
    5: (0, 2, 1, 3, 4),
    6: (0, 2, 1, 4, 5, 3),
    7: (0, 2, 1, 5, 6, 4, 3),
    8: (0, 2, 1, 6, 7, 4, 5, 3),
}


class _VorbisEncoder(PlainEncoder):
    def __init__(self, path: Path, shape: SoundShape, settings: EncoderSettings) -> None:
        quality = 0.5 if settings.quality is None else settings.quality
        # libsndfile counts compression, so quality 1.0 is compression 0.0.
        super().__init__(path, shape, "OGG", "VORBIS", compression_level=1.0 - quality)

    def write(self, block: Block) -> None:
        order = _ORDER.get(block.shape[1])
        samples = np.ascontiguousarray(block if order is None else block[:, order], dtype=np.float32)
        for start in range(0, len(samples), _SAMPLES_A_WRITE):
            super().write(samples[start : start + _SAMPLES_A_WRITE])


def open_vorbis(path: Path, shape: SoundShape, settings: EncoderSettings) -> _VorbisEncoder:
    return _VorbisEncoder(path, shape, settings)
