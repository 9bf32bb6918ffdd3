"""PCM and G.711 in WAV and AIFF, written by libsndfile."""

from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.errors import EncodeError, OutputError
from rumbrel.core.sound.shape import Block, SoundShape

from .settings import EncoderSettings

__all__ = ["open_aiff", "open_wav", "open_wav_alaw", "open_wav_ulaw"]

_SUBTYPES = {8: "PCM_U8", 16: "PCM_16", 24: "PCM_24", 32: "PCM_32"}


class _PlainEncoder:
    def __init__(self, path: Path, shape: SoundShape, container: str, subtype: str) -> None:
        try:
            self._file = soundfile.SoundFile(
                str(path), "w", shape.sample_rate, shape.channels, subtype=subtype, format=container
            )
        except soundfile.SoundFileError as error:
            raise EncodeError(f"The result cannot be written as {container}: {error}.") from error
        self._shape = shape

    def write(self, block: Block) -> None:
        # libsndfile reports a full disk as a short write or an error, by the moment.
        before = self._file.frames
        try:
            self._file.write(np.ascontiguousarray(block))
        except (soundfile.SoundFileError, AssertionError, OSError) as error:
            raise OutputError(f"The result could not be written: {error or 'the disk took only a part'}.") from error
        if self._file.frames - before != len(block):
            raise OutputError("The result could not be written: the disk took only a part of it.")

    def finish(self) -> None:
        self._file.close()

    def abandon(self) -> None:
        self._file.close()


def open_wav(path: Path, shape: SoundShape, settings: EncoderSettings) -> _PlainEncoder:
    """PCM in WAV; libsndfile turns it into RF64 by itself when it passes 4 GiB (EBU Tech 3306)."""
    return _PlainEncoder(path, shape, "WAV", _SUBTYPES[shape.depth_bits])


def open_aiff(path: Path, shape: SoundShape, settings: EncoderSettings) -> _PlainEncoder:
    subtype = "PCM_S8" if shape.depth_bits == 8 else _SUBTYPES[shape.depth_bits]
    return _PlainEncoder(path, shape, "AIFF", subtype)


def open_wav_ulaw(path: Path, shape: SoundShape, settings: EncoderSettings) -> _PlainEncoder:
    return _PlainEncoder(path, shape, "WAV", "ULAW")


def open_wav_alaw(path: Path, shape: SoundShape, settings: EncoderSettings) -> _PlainEncoder:
    return _PlainEncoder(path, shape, "WAV", "ALAW")
