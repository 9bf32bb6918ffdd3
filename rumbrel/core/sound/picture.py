"""A picture of the sound as data: an envelope and a spectrogram of fixed size, whatever the length."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .level import as_float
from .shape import Block, SoundShape

__all__ = ["Picture", "PictureMaker"]

ENVELOPE_COLUMNS = 1000
SPECTRUM_COLUMNS = 250
SPECTRUM_BANDS = 48
_FFT_SAMPLES = 2048
_FLOOR_DB = -120.0
_LOWEST_BAND_HZ = 40.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """lows and highs are the extremes of each column in 16 bit units, all channels together.

    spectrogram holds a row a column of time: level of each band in dB of full scale, whole numbers
    from -120 to 0. band_edges_hz has one more value than there are bands.
    """

    lows: tuple[int, ...]
    highs: tuple[int, ...]
    spectrogram: tuple[tuple[int, ...], ...]
    band_edges_hz: tuple[float, ...]


class PictureMaker:
    """Push the blocks of a stream of about expected_samples; memory does not grow with its length."""

    def __init__(self, shape: SoundShape, expected_samples: int) -> None:
        self._wide = max(1, math.ceil(expected_samples / ENVELOPE_COLUMNS))
        self._lows: list[float] = []
        self._highs: list[float] = []
        self._open: tuple[float, float, int] = (0.0, 0.0, 0)
        self._stride = max(_FFT_SAMPLES, math.ceil(expected_samples / SPECTRUM_COLUMNS))
        self._rows: list[NDArray[np.float64]] = []
        self._held = np.zeros((0, shape.channels))
        self._skip = 0
        self._window = np.hanning(_FFT_SAMPLES)
        top = shape.sample_rate / 2
        low = min(_LOWEST_BAND_HZ, top / 4)
        self._edges = np.geomspace(low, top, SPECTRUM_BANDS + 1)
        bins = np.round(self._edges / top * (_FFT_SAMPLES // 2)).astype(int)
        self._bins = [(int(a), max(int(a) + 1, int(b))) for a, b in zip(bins[:-1], bins[1:], strict=True)]

    def push(self, block: Block) -> None:
        values = as_float(block)
        self._push_envelope(values)
        self._push_spectrum(values)

    def _push_envelope(self, values: NDArray[np.float64]) -> None:
        low, high, count = self._open
        start = 0
        while start < len(values):
            stop = min(len(values), start + self._wide - count)
            part = values[start:stop]
            low, high, count = min(low, float(part.min())), max(high, float(part.max())), count + stop - start
            start = stop
            if count == self._wide:
                self._lows.append(low)
                self._highs.append(high)
                low, high, count = 0.0, 0.0, 0
        self._open = low, high, count

    def _push_spectrum(self, values: NDArray[np.float64]) -> None:
        """One look at the beginning of each column."""
        if self._skip >= len(values):
            self._skip -= len(values)
            return
        held = np.concatenate([self._held, values[self._skip :]])
        self._skip = 0
        while len(held) >= _FFT_SAMPLES and not self._skip:
            self._rows.append(self._row(held[:_FFT_SAMPLES].mean(axis=1)))
            gone = min(len(held), self._stride)
            self._skip = self._stride - gone
            held = held[gone:]
        self._held = held

    def _row(self, stretch: NDArray[np.float64]) -> NDArray[np.float64]:
        # A full-scale sine reads 0 dB.
        power = np.abs(np.fft.rfft(stretch * self._window)) ** 2 / (self._window.sum() / 2) ** 2
        return np.array([power[a:b].sum() for a, b in self._bins])

    def picture(self) -> Picture:
        low, high, count = self._open
        lows, highs = list(self._lows), list(self._highs)
        if count:
            lows.append(low)
            highs.append(high)
        with np.errstate(divide="ignore"):
            rows = [np.clip(np.rint(10 * np.log10(row)), _FLOOR_DB, 0).astype(int) for row in self._rows]
        return Picture(
            lows=tuple(round(value * 32767) for value in lows),
            highs=tuple(round(value * 32767) for value in highs),
            spectrogram=tuple(tuple(int(value) for value in row) for row in rows),
            band_edges_hz=tuple(round(float(edge), 1) for edge in self._edges),
        )
