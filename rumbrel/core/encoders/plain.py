"""PCM, FLAC, G.711 and the simple telephone codings, written by libsndfile."""

import os
from contextlib import suppress
from functools import partial
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.errors import EncodeError
from rumbrel.core.files import not_written
from rumbrel.core.reasons import is_systems, why_failed
from rumbrel.core.sound.shape import Block, SoundShape

from .companding import companded
from .settings import EncoderSettings

__all__ = ["PlainEncoder", "open_coded", "open_companded", "open_flac", "open_float", "open_pcm", "open_vox"]

FLAC_MIDDLE_EFFORT, FLAC_MOST_EFFORT = 5, 8
_SUBTYPES = {8: "PCM_S8", 16: "PCM_16", 24: "PCM_24", 32: "PCM_32"}
# RIFF holds 8 bit samples unsigned, the others hold them signed.
_UNSIGNED_8 = frozenset({"WAV", "W64", "RF64"})


_IN_PART = "the disk took only a part of it"


class PlainEncoder:
    """A file of libsndfile's, container and subtype by its names."""

    def __init__(
        self, path: Path, shape: SoundShape, container: str, subtype: str, *, compression_level: float | None = None
    ) -> None:
        try:
            self._file = soundfile.SoundFile(
                os.fsencode(path), "w", shape.sample_rate, shape.channels, subtype=subtype, format=container,
                compression_level=compression_level,
            )  # fmt: skip
        except (soundfile.SoundFileError, ValueError) as error:
            if is_systems(error):
                raise not_written(path, why_failed(error)) from error
            raise EncodeError(f"The result cannot be written as {container}: {why_failed(error)}.") from error
        self._path = path

    def write(self, block: Block) -> None:
        # libsndfile reports a full disk as a short write or an error, by the moment.
        before = self._file.frames
        try:
            self._file.write(np.ascontiguousarray(block))
        except (soundfile.SoundFileError, OSError) as error:
            raise not_written(self._path, why_failed(error)) from error
        except AssertionError as error:
            raise not_written(self._path, _IN_PART) from error
        if self._file.frames - before != len(block):
            raise not_written(self._path, _IN_PART)

    def finish(self) -> None:
        try:
            self._file.close()
        except soundfile.SoundFileError as error:
            raise not_written(self._path, why_failed(error)) from error

    def abandon(self) -> None:
        # The file is thrown away; that closing it failed as well changes nothing for anybody.
        with suppress(soundfile.SoundFileError):
            self._file.close()


class _PairedEncoder(PlainEncoder):
    """Two samples share a byte, and libsndfile takes only whole bytes: an odd one waits for the next block."""

    def __init__(self, path: Path, shape: SoundShape, container: str, subtype: str) -> None:
        super().__init__(path, shape, container, subtype)
        self._held = np.zeros((0, shape.channels), dtype=np.int16)

    def write(self, block: Block) -> None:
        joined = np.concatenate([self._held, block])
        even = len(joined) - len(joined) % 2
        self._held = joined[even:]
        if even:
            super().write(joined[:even])

    def finish(self) -> None:
        if len(self._held):
            super().write(np.concatenate([self._held, self._held]))
        super().finish()


def open_vox(path: Path, shape: SoundShape, settings: EncoderSettings) -> PlainEncoder:
    """Bare 4 bit telephone ADPCM."""
    return _PairedEncoder(path, shape, "RAW", "VOX_ADPCM")


class _CompandedEncoder(PlainEncoder):
    """G.711, whose values are settled here: libsndfile takes other codes at the edges of segments."""

    def __init__(self, path: Path, shape: SoundShape, container: str, subtype: str) -> None:
        super().__init__(path, shape, container, subtype)
        self._subtype = subtype

    def write(self, block: Block) -> None:
        super().write(companded(np.ascontiguousarray(block, dtype=np.int16), self._subtype))


def _open(path: Path, shape: SoundShape, settings: EncoderSettings, *, container: str, subtype: str) -> PlainEncoder:
    return PlainEncoder(path, shape, container, subtype)


def _open_integers(path: Path, shape: SoundShape, settings: EncoderSettings, *, container: str) -> PlainEncoder:
    subtype = "PCM_U8" if shape.depth_bits == 8 and container in _UNSIGNED_8 else _SUBTYPES[shape.depth_bits]
    return PlainEncoder(path, shape, container, subtype)


def open_flac(path: Path, shape: SoundShape, settings: EncoderSettings) -> PlainEncoder:
    """FLAC by libFLAC, which makes files a per cent smaller than FFmpeg in the same time (docs/performance.md)."""
    effort = FLAC_MIDDLE_EFFORT if settings.effort is None else settings.effort
    level = effort / FLAC_MOST_EFFORT
    return PlainEncoder(path, shape, "FLAC", _SUBTYPES[shape.depth_bits], compression_level=level)


def open_pcm(container: str) -> partial[PlainEncoder]:
    """An opener of integer PCM in a container as libsndfile names it."""
    return partial(_open_integers, container=container)


def open_float(container: str) -> partial[PlainEncoder]:
    """An opener of 32 bit floating point PCM."""
    return partial(_open, container=container, subtype="FLOAT")


def _open_companded(
    path: Path, shape: SoundShape, settings: EncoderSettings, *, container: str, subtype: str
) -> PlainEncoder:
    return _CompandedEncoder(path, shape, container, subtype)


def open_companded(container: str, subtype: str) -> partial[PlainEncoder]:
    """An opener of one of the two laws of ITU-T G.711."""
    return partial(_open_companded, container=container, subtype=subtype)


def open_coded(container: str, subtype: str) -> partial[PlainEncoder]:
    """An opener of one of libsndfile's codings of 16 bit samples."""
    return partial(_open, container=container, subtype=subtype)
