"""The true peak is that of the whole sound filtered at once, however it is cut and whatever is passed over."""

from unittest import TestCase

import numpy as np
from scipy import signal

from rumbrel.core.sound.level import TruePeakMeter
from rumbrel.core.sound.shape import SoundShape


def filtered_at_once(sound: np.ndarray, factor: int) -> float:
    """The filter of the meter over all of it, silence before and behind, by the library's own up-sampling."""
    taps = signal.firwin(16 * factor + 1, 1 / factor, window=("kaiser", 8.0)) * factor
    padded = np.pad(sound, ((20, 20), (0, 0)))
    return float(np.abs(signal.upfirdn(taps, padded.T, up=factor)).max())


class TruePeakTests(TestCase):
    def sounds(self, chance: np.random.Generator) -> dict[str, np.ndarray]:
        noise = chance.standard_normal((40_000, 2))
        single = np.zeros((5_000, 2))
        single[4_321, 1] = -0.9
        rising = noise * np.linspace(0.001, 1, len(noise))[:, None]
        return {
            "noise": noise, "clipped": np.clip(3 * noise, -1, 1), "one sample": single, "rising": rising,
            "falling": rising[::-1], "short": noise[:7], "a stretch": noise[:32], "one more": noise[:33],
            "its last sample": np.concatenate([0.01 * noise[:300], [[1.0, -1.0]]]), "silence": np.zeros((100, 2)),
        }  # fmt: skip

    def test_it_is_that_of_the_whole_sound(self) -> None:
        chance = np.random.default_rng(4)
        for rate, factor in ((44_100, 4), (96_000, 2)):
            for name, sound in self.sounds(chance).items():
                meter, at = TruePeakMeter(SoundShape(sample_rate=rate, channels=2, depth_bits=0)), 0
                while at < len(sound):
                    count = int(chance.choice([1, 31, 32, 50, 4_096, 9_999]))
                    meter.push(sound[at : at + count])
                    at += count
                meter.finish()
                self.assertAlmostEqual(meter.peak, filtered_at_once(sound, factor), 12, f"{name} at {rate}")
