"""The limiter: no true peak above its ceiling, nothing done where nothing is needed, little distortion."""

from unittest import TestCase

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.sound.level import TruePeakMeter
from rumbrel.core.sound.limiter import Limiter
from rumbrel.core.sound.shape import SoundShape
from tests.marks import slow
from tests.measure.material import KINDS, Dice

SHAPE = SoundShape(sample_rate=44_100, channels=2, depth_bits=0)


def limited(sound: NDArray[np.float64], ceiling_dbtp: float, *lengths: int) -> tuple[NDArray[np.float64], Limiter]:
    limiter, parts, at = Limiter(SHAPE, ceiling_dbtp), [], 0
    for length in lengths or (len(sound),):
        parts.append(limiter.push(sound[at : at + length]))
        at += length
    parts += [limiter.push(sound[at:]), limiter.push(sound[:0], last=True)]
    return np.concatenate(parts), limiter


def true_peak_db(sound: NDArray[np.float64]) -> float:
    meter = TruePeakMeter(SHAPE)
    meter.push(sound)
    meter.finish()
    return meter.dbtp


class LimiterTests(TestCase):
    @slow
    def test_no_true_peak_passes_the_ceiling_of_any_sound(self) -> None:
        for name, make in KINDS.items():
            # Seed 3 has a sweep up to 13 kHz.
            sound = make(Dice(3, 44_100, 2, 6.0))
            loud = sound / np.abs(sound).max() * 2
            for ceiling in (-1.0, -6.0):
                with self.subTest(name=name, ceiling=ceiling):
                    out, limiter = limited(loud, ceiling)
                    self.assertEqual(out.shape, loud.shape)
                    self.assertLessEqual(true_peak_db(out), ceiling + 0.05)
                    self.assertGreater(true_peak_db(out), ceiling - 1.5)
                    self.assertLess(limiter.lowest_gain, 0.6)

    def test_what_stays_below_is_not_touched(self) -> None:
        sound = KINDS["speech"](Dice(1, 44_100, 2, 6.0)) * 0.5
        out, limiter = limited(sound, -1.0)
        self.assertTrue(np.array_equal(out, sound))
        self.assertEqual(limiter.lowest_gain, 1.0)

    def test_how_the_sound_comes_in_makes_no_difference(self) -> None:
        sound = KINDS["bells"](Dice(1, 44_100, 2, 6.0)) * 2.5
        whole, _ = limited(sound, -1.0)
        pieces, _ = limited(sound, -1.0, 1, 100, 44, 30_011, 7, 5_000)
        np.testing.assert_allclose(pieces, whole, atol=1e-12)

    def test_both_channels_are_lowered_alike_and_the_channel_that_is_not_loud_too(self) -> None:
        sound = np.zeros((44_100, 2))
        sound[20_000:20_400, 0] = 1.5
        sound[:, 1] = 0.1
        out, _ = limited(sound, -1.0)
        self.assertLess(out[20_200, 1], 0.07)
        self.assertEqual(out[10_000, 1], 0.1)
        # Down before it comes, back in a few tenths of a second.
        self.assertLess(out[19_950, 1], 0.1)
        self.assertGreater(out[40_000, 1], 0.095)

    def test_a_steady_tone_is_lowered_with_little_distortion(self) -> None:
        """Measured: harmonics below -70 dB of a tone of 1 kHz that is 6 dB too loud."""
        time = np.arange(44_100 * 2) / 44_100
        tone = np.stack([2 * np.sin(2 * np.pi * 1_000 * time)] * 2, axis=1)
        out, _ = limited(tone, 0.0)
        spectrum = np.abs(np.fft.rfft(out[44_100:, 0] * np.hanning(44_100)))
        harmonics = [spectrum[k * 1_000 - 3 : k * 1_000 + 4].max() for k in range(2, 20)]
        self.assertLess(20 * np.log10(max(harmonics) / spectrum[1_000]), -70)
