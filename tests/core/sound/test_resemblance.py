"""Two pictures are of one recording, or of two."""

from unittest import TestCase

import numpy as np

from rumbrel.core.sound.fine_picture import FinePicture, FinePictureMaker
from rumbrel.core.sound.resemblance import ALIKE, OTHER, resemblance
from rumbrel.core.sound.shape import SoundShape
from tests.signals import melody


def picture(sound: np.ndarray, rate: int) -> FinePicture:
    shape = SoundShape(sample_rate=rate, channels=1, depth_bits=0)
    maker = FinePictureMaker(shape, len(sound))
    for start in range(0, len(sound), 50_000):
        maker.push(sound[start : start + 50_000, None].astype(np.float32))
    return maker.picture(np.zeros(0))


class ResemblanceTests(TestCase):
    def test_level_shift_rate_and_noise_leave_one_recording_one(self) -> None:
        first = picture(melody(1, 44_100), 44_100)
        quiet = 0.3 * melody(1, 44_100)
        noise = 0.003 * np.random.default_rng(9).standard_normal(len(quiet))
        for name, other in (
            ("itself", first),
            ("quieter, with noise", picture(quiet + noise, 44_100)),
            ("a second later", picture(np.concatenate([np.zeros(44_100), melody(1, 44_100)]), 44_100)),
            ("a second earlier", picture(melody(1, 44_100)[44_100:], 44_100)),
            ("for the telephone", picture(melody(1, 8_000), 8_000)),
            ("at 96 kHz", picture(melody(1, 96_000), 96_000)),
        ):
            self.assertGreater(resemblance(first, other), ALIKE, name)
            self.assertAlmostEqual(resemblance(first, other), resemblance(other, first), 6)

    def test_others_are_others(self) -> None:
        first = picture(melody(1, 44_100), 44_100)
        for seed in range(2, 8):
            self.assertLess(resemblance(first, picture(melody(seed, 44_100), 44_100)), OTHER)
        self.assertLess(resemblance(first, picture(melody(1, 44_100)[::-1], 44_100)), OTHER)
        late = np.concatenate([np.zeros(4 * 44_100), melody(1, 44_100)])[: 20 * 44_100]
        self.assertLess(resemblance(first, picture(late, 44_100)), OTHER, "later than is looked for")

    def test_silence_and_what_is_too_short_resemble_nothing(self) -> None:
        first = picture(melody(1, 44_100), 44_100)
        for sound in (np.zeros(44_100 * 20), melody(1, 44_100)[:20_000], melody(1, 44_100)[: 44_100 * 10]):
            self.assertLess(resemblance(first, picture(sound, 44_100)), OTHER)
