"""Whether two recordings sound alike, told by their pictures: the course of their bands over time, compared."""

import numpy as np
from numpy.typing import NDArray

from .fine_picture import FinePicture

__all__ = ["ALIKE", "OTHER", "resemblance"]

ALIKE, OTHER = 0.5, 0.33
"""From the first on, two pictures are of one recording; below the second, of two; between them is doubt. Measured over
the demo's recordings as they are and as MP3 at 48 and 128, Opus and mu-law: one recording 0.41 and more (0.98 and more
at full bandwidth), two 0.32 and less."""

_HIGHEST_HZ = 3_600
_BANDS = 8
_BAND_HZ = 22_050 / 96
_SECONDS_A_STEP = 0.25
_MOST_SHIFT_SECONDS = 2.0
_FLOOR_DB_BELOW_PEAK = 50.0


def resemblance(one: FinePicture, other: FinePicture) -> float:
    """From -1 to 1; a shift of up to two seconds, another level, and bands that a coding leaves out count little. 0 where
    one of them is too short or does not change at all."""
    first, second = _course(one), _course(other)
    most = round(_MOST_SHIFT_SECONDS / _SECONDS_A_STEP)
    return max(_correlation(first, second, shift) for shift in range(-most, most + 1))


def _course(picture: FinePicture) -> NDArray[np.float64]:
    """Levels in dB, shaped (steps, bands), each band around its own middle."""
    levels = picture.spectrum.astype(np.float64)
    step = max(1, round(_SECONDS_A_STEP * picture.sample_rate / picture.samples_a_spectrum))
    steps = len(levels) // step
    levels = levels[: steps * step].reshape(steps, step, -1).max(axis=1)
    levels = _equally_wide(levels, picture.edges_hz)
    edges = np.linspace(0, _HIGHEST_HZ, _BANDS + 1) / _BAND_HZ
    levels = np.stack(
        [
            # A telephone recording ends below the highest band; then that is its highest one again.
            levels[:, min(int(low), levels.shape[1] - 1) : max(int(low) + 1, round(high))].max(axis=1)
            for low, high in zip(edges[:-1], edges[1:], strict=True)
        ],
        axis=1,
    )
    if not levels.size:
        return np.zeros((0, _BANDS))
    levels = np.maximum(levels, levels.max() - _FLOOR_DB_BELOW_PEAK)
    return np.asarray(levels - levels.mean(axis=0))


def _equally_wide(levels: NDArray[np.float64], edges_hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels in dB of bands of _BAND_HZ, as far as there is sound: what is measured above was measured of such."""
    wide = np.arange(0, min(_HIGHEST_HZ + 2 * _BAND_HZ, edges_hz[-1]) + 1e-6, _BAND_HZ)
    low, high = edges_hz[:-1, None], edges_hz[1:, None]
    shares = np.clip(np.minimum(high, wide[1:]) - np.maximum(low, wide[:-1]), 0, None) / (high - low)
    return np.asarray(10 * np.log10(10 ** (levels / 10) @ shares + 1e-12))


def _correlation(first: NDArray[np.float64], second: NDArray[np.float64], shift: int) -> float:
    one = first[max(0, shift) :]
    other = second[max(0, -shift) :]
    length = min(len(one), len(other))
    if length < 4 or length < 0.8 * max(len(first), len(second)):
        return 0.0
    one, other = one[:length], other[:length]
    scale = float(np.sqrt((one**2).sum() * (other**2).sum()))
    return float((one * other).sum()) / scale if scale else 0.0
