"""Levels against EBU Tech 3341 and 3342 (from memory), and against figures of other meters."""

from unittest import TestCase

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.sound.level import Level, LevelMeter
from rumbrel.core.sound.shape import SoundShape
from tests.marks import slow

Parts = list[tuple[float, float]]


def sines(parts: Parts, *, rate: int = 48_000, channels: int = 2, pitch: float = 1_000) -> NDArray[np.float64]:
    """Stretches of a sine, each (dBFS, seconds), equal in all channels."""
    stretches = [10 ** (db / 20) * np.sin(2 * np.pi * pitch * np.arange(round(s * rate)) / rate) for db, s in parts]
    return np.repeat(np.concatenate(stretches)[:, None], channels, axis=1)


def level_of(sound: NDArray[np.float64], *, rate: int = 48_000) -> Level:
    """Measured in uneven blocks, which must not matter."""
    meter = LevelMeter(SoundShape(sample_rate=rate, channels=sound.shape[1], depth_bits=0))
    for start in range(0, len(sound), 48_611):
        meter.push(sound[start : start + 48_611])
    return meter.level()


class LoudnessTests(TestCase):
    @slow
    def test_integrated_loudness_cases_of_tech_3341(self) -> None:
        cases: tuple[tuple[Parts, float], ...] = (
            ([(-23, 20)], -23.0),
            ([(-33, 20)], -33.0),
            ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
            ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
            ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
        )
        for parts, wanted in cases:
            for rate in (44_100, 48_000, 96_000):
                self.assertAlmostEqual(level_of(sines(parts, rate=rate), rate=rate).integrated_lufs, wanted, delta=0.1)

    @slow
    def test_the_same_decimals_as_a_reference_meter(self) -> None:
        """Figures that pyebur128 gave for these signals."""
        for parts, wanted in (([(-23, 20)], -22.993), ([(-26, 20), (-20, 20.1), (-26, 20)], -22.979)):
            self.assertAlmostEqual(level_of(sines(parts)).integrated_lufs, wanted, delta=0.001)

    def test_a_full_scale_sine_in_one_channel(self) -> None:
        """BS.1770: 997 Hz at 0 dBFS in one channel reads -3.01 LKFS."""
        sound = sines([(0, 5)], pitch=997) * [1, 0]
        self.assertAlmostEqual(level_of(sound).integrated_lufs, -3.01, delta=0.01)

    @slow
    def test_surround_channels_weigh_more_and_the_low_frequency_channel_nothing(self) -> None:
        """Case 6 of Tech 3341: five channels at -28, -28, -24, -30, -30 dBFS read -23 LUFS."""
        gains = np.array([10 ** (db / 20) for db in (-28, -28, -24, 0, -30, -30)])
        self.assertAlmostEqual(level_of(sines([(0, 20)], channels=6) * gains).integrated_lufs, -23.0, delta=0.1)

    @slow
    def test_loudness_range_cases_of_tech_3342(self) -> None:
        cases: tuple[tuple[Parts, float], ...] = (
            ([(-20, 20), (-30, 20)], 10),
            ([(-20, 20), (-15, 20)], 5),
            ([(-40, 20), (-20, 20)], 20),
            ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15),
        )
        for parts, wanted in cases:
            self.assertAlmostEqual(level_of(sines(parts)).range_lu, wanted, delta=0.2)

    def test_peaks_between_the_samples(self) -> None:
        """Cases 15 and 17 of Tech 3341: a quarter of the rate at 0 and at 45 degrees, -6 dBFS, +0.2/-0.4 dB."""
        count = np.arange(48_000)
        fade = np.minimum(1, np.minimum(count, count[::-1]) / 500)
        for degrees in (0, 45):
            wave = 0.5 * np.sin(2 * np.pi * count / 4 + np.radians(degrees)) * fade
            peak = level_of(np.stack([wave, wave], axis=1)).true_peak_dbtp
            self.assertTrue(-6.4 <= peak <= -5.8, peak)

    def test_silence_has_no_level(self) -> None:
        level = level_of(np.zeros((96_000, 2)))
        self.assertEqual((level.integrated_lufs, level.true_peak_dbtp), (-np.inf, -np.inf))
