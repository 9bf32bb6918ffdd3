"""A picture of the sound fine enough to be looked into: envelope, spectrum and loudness over time, kept in a file."""

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.errors import DecodeError
from rumbrel.core.files import move_into_place, working_file

from .shape import Block, SoundShape

__all__ = ["FLOOR_DB", "FinePicture", "FinePictureMaker", "PictureView", "band_edges_hz", "load_picture"]

_COLUMNS_A_SECOND = 100
_MOST_COLUMNS = 400_000
_SPECTRA_A_SECOND = 20
_MOST_SPECTRA = 20_000
_BANDS = 96
_FFT_SECONDS = 0.04
_SPECTRA_A_BATCH = 64
FLOOR_DB = -120
_HOPS_A_SECOND = 10
"""Of the loudness: as LevelMeter gives it."""
_VERSION, _LINEAR_VERSION = 2, 1
"""Pictures of the first version have bands that are equally wide; they are read as near as their bands tell."""

Number = TypeVar("Number", bound=np.generic)


@dataclass(frozen=True, slots=True, kw_only=True)
class PictureView:
    """A stretch of a picture in so many columns. lows and highs are in 16 bit units; spectrum holds a row of bands
    for each column of time, in dB above FLOOR_DB, from 0 Hz up; loudness is LUFS, short term, NaN before there is one."""

    lows: NDArray[np.int16]
    highs: NDArray[np.int16]
    spectrum: NDArray[np.uint8]
    loudness: NDArray[np.float32]


@dataclass(frozen=True, slots=True, kw_only=True)
class FinePicture:
    """lows and highs are the extremes of each column of samples_a_column samples, all channels together, in 16 bit
    units. spectrum is shaped (columns of samples_a_spectrum samples, bands), equally wide on the mel scale from 0 Hz to half
    the sample rate, in dB above FLOOR_DB of a sine at full scale. loudness is short term (3 s), ten values a second."""

    sample_rate: int
    samples: int
    samples_a_column: int
    samples_a_spectrum: int
    lows: NDArray[np.int16]
    highs: NDArray[np.int16]
    spectrum: NDArray[np.uint8]
    loudness: NDArray[np.float32]

    @property
    def edges_hz(self) -> NDArray[np.float64]:
        """Where each band begins, and where the last one ends."""
        return band_edges_hz(self.sample_rate)

    def view(self, start_seconds: float, end_seconds: float, columns: int) -> PictureView:
        """What lies between two times, in at most so many columns; half as many of the spectrum and loudness."""
        columns_a_second = self.sample_rate / self.samples_a_column
        spectra_a_second = self.sample_rate / self.samples_a_spectrum
        times = (start_seconds, end_seconds)
        envelope = _range_of(times, columns_a_second, len(self.lows))
        spectra = _range_of(times, spectra_a_second, len(self.spectrum))
        hops = _range_of(times, _HOPS_A_SECOND, len(self.loudness))
        return PictureView(
            lows=_reduced(np.minimum, self.lows[envelope], columns),
            highs=_reduced(np.maximum, self.highs[envelope], columns),
            spectrum=_reduced(np.maximum, self.spectrum[spectra], columns // 2),
            loudness=_reduced(np.maximum, self.loudness[hops], columns // 2),
        )

    def save(self, path: Path) -> None:
        """Whole or not at all. Raises OutputError."""
        with working_file(path) as working:
            with working.open("wb") as file:
                np.savez_compressed(
                    file, lows=self.lows, highs=self.highs, spectrum=self.spectrum, loudness=self.loudness,
                    head=np.array([_VERSION, self.sample_rate, self.samples, self.samples_a_column, self.samples_a_spectrum]),
                )  # fmt: skip
            move_into_place(working, path, replaces=True)


def load_picture(path: Path) -> FinePicture | None:
    """A saved picture; None where there is none, or none that this version wrote."""
    try:
        with np.load(path, allow_pickle=False) as kept:
            version, rate, samples, column, spectrum = (int(value) for value in kept["head"])
            if version not in (_VERSION, _LINEAR_VERSION):
                return None
            levels = kept["spectrum"] if version == _VERSION else _on_mel_scale(kept["spectrum"], rate)
            return FinePicture(
                sample_rate=rate, samples=samples, samples_a_column=column, samples_a_spectrum=spectrum,
                lows=kept["lows"], highs=kept["highs"], spectrum=levels, loudness=kept["loudness"],
            )  # fmt: skip
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, BadZipFile) as error:
        raise DecodeError("The picture of this track cannot be read. Analyse the track again.") from error


def band_edges_hz(sample_rate: int) -> NDArray[np.float64]:
    """Of bands that are equally wide on the mel scale, as 2595 log10(1 + f / 700) has it (O'Shaughnessy, Speech
    Communication, 1987): music lies in its lower half, which a linear scale presses into a fifth."""
    top = 2595 * np.log10(1 + sample_rate / 2 / 700)
    return np.asarray(700 * (10 ** (np.linspace(0, top, _BANDS + 1) / 2595) - 1))


def _on_mel_scale(levels: NDArray[np.uint8], sample_rate: int) -> NDArray[np.uint8]:
    """Of bands that are equally wide in Hz."""
    at = band_edges_hz(sample_rate) / (sample_rate / 2) * levels.shape[1]
    bands = [
        levels[:, int(low) : max(int(low) + 1, int(np.ceil(high - 1e-6)))].max(axis=1)
        for low, high in zip(at[:-1], at[1:], strict=True)
    ]
    return np.stack(bands, axis=1)


def _range_of(times: tuple[float, float], a_second: float, length: int) -> slice:
    start_seconds, end_seconds = times
    first = min(max(0, math.floor(start_seconds * a_second)), max(0, length - 1))
    return slice(first, max(first + 1, min(length, math.ceil(end_seconds * a_second))))


def _reduced(extreme: np.ufunc, values: NDArray[Number], most: int) -> NDArray[Number]:
    """So many values at most, each the extreme of its neighbours."""
    if len(values) <= most:
        return values
    return np.asarray(extreme.reduceat(values, np.arange(most) * len(values) // most, axis=0))


class FinePictureMaker:
    """Push the blocks of a stream of about expected_samples; memory is bounded by the picture's own size."""

    def __init__(self, shape: SoundShape, expected_samples: int) -> None:
        rate = shape.sample_rate
        self._shape = shape
        self._column = max(math.ceil(rate / _COLUMNS_A_SECOND), math.ceil(expected_samples / _MOST_COLUMNS))
        self._stride = max(math.ceil(rate / _SPECTRA_A_SECOND), math.ceil(expected_samples / _MOST_SPECTRA))
        self._fft = 1 << math.ceil(math.log2(max(2 * _BANDS, rate * _FFT_SECONDS)))
        self._edges = np.rint(band_edges_hz(rate)[:-1] * self._fft / rate).astype(np.intp)
        self._window = np.hanning(self._fft).astype(np.float32)
        self._held: Block | None = None
        self._lows: list[NDArray[np.int16]] = []
        self._highs: list[NDArray[np.int16]] = []
        self._batch = np.zeros((_SPECTRA_A_BATCH, self._fft, min(2, shape.channels)), dtype=np.float32)
        self._spectra: list[NDArray[np.uint8]] = []
        self._looks = 0
        self._at = 0

    def push(self, block: Block) -> None:
        if not len(block):
            return
        self._push_spectrum(block)
        self._at += len(block)
        held = block if self._held is None else np.concatenate([self._held, block])
        whole = len(held) // self._column
        if whole:
            columns = held[: whole * self._column].reshape(whole, -1)
            self._lows.append(_sixteen_bit(columns.min(axis=1)))
            self._highs.append(_sixteen_bit(columns.max(axis=1)))
        self._held = held[whole * self._column :]

    def _push_spectrum(self, block: Block) -> None:
        """A look at the beginning of each column, at the first two channels."""
        start, end = self._at, self._at + len(block)
        while (begun := self._looks * self._stride) < end:
            low, high = max(begun, start), min(begun + self._fft, end)
            if low < high:
                channels = self._batch.shape[2]
                look = _unit(block[low - start : high - start, :channels])
                self._batch[self._looks % _SPECTRA_A_BATCH, low - begun : high - begun] = look
            if high < begun + self._fft:
                return
            self._looks += 1
            if self._looks % _SPECTRA_A_BATCH == 0:
                self._keep_spectra(_SPECTRA_A_BATCH)

    def _keep_spectra(self, count: int) -> None:
        looks = np.swapaxes(self._batch[:count], 1, 2) * self._window
        power = np.abs(np.fft.rfft(looks)[:, :, : self._fft // 2]) ** 2
        bands = np.add.reduceat(power, self._edges, axis=2).max(axis=1) / (self._window.sum() / 2) ** 2
        with np.errstate(divide="ignore"):
            levels = np.rint(10 * np.log10(bands)) - FLOOR_DB
        self._spectra.append(np.clip(levels, 0, -FLOOR_DB).astype(np.uint8))
        self._batch[:] = 0

    def picture(self, loudness_lufs: NDArray[np.floating]) -> FinePicture:
        """What was pushed, with the loudness that was measured beside it. Ask once."""
        lows, highs = self._lows, self._highs
        if self._held is not None and len(self._held):
            lows, highs = [*lows, _sixteen_bit(self._held.min()[None])], [*highs, _sixteen_bit(self._held.max()[None])]
        # The last look is shorter than the others where the sound ends in it.
        left = self._looks % _SPECTRA_A_BATCH
        self._keep_spectra(left + 1 if self._looks * self._stride < self._at else left)
        return FinePicture(
            sample_rate=self._shape.sample_rate,
            samples=self._at,
            samples_a_column=self._column,
            samples_a_spectrum=self._stride,
            lows=np.concatenate(lows) if lows else np.zeros(0, np.int16),
            highs=np.concatenate(highs) if highs else np.zeros(0, np.int16),
            spectrum=np.concatenate(self._spectra),
            loudness=loudness_lufs.astype(np.float32),
        )


def _sixteen_bit(values: Block) -> NDArray[np.int16]:
    if values.dtype == np.int16:
        return np.asarray(values, dtype=np.int16)
    if values.dtype == np.int32:
        return np.asarray(values >> 16, dtype=np.int16)
    return np.asarray(np.clip(np.rint(values * 32767), -32768, 32767), dtype=np.int16)


def _unit(values: Block) -> Block:
    """Full scale at 1, in single precision: enough to look at."""
    scale = {np.dtype(np.int16): 1 / 32768, np.dtype(np.int32): 1 / 2147483648}.get(values.dtype)
    return values if scale is None else values.astype(np.float32) * np.float32(scale)
