"""A lossy result is like its source or is not: other sound, other channels, other level, sound that is missing."""

from unittest import TestCase

import numpy as np

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.sound.likeness import Sketch, compared
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.verdict import Verdict
from tests.marks import slow
from tests.measure.likeness import coded, kinds, sketch_of, wrongs

_CASES = (
    ("mp3", 44_100, 128, 2), ("mp3", 16_000, 32, 1), ("aac", 44_100, 64, 2), ("aac-adts", 44_100, 96, 2),
    ("opus", 48_000, 32, 1), ("opus", 48_000, 96, 2), ("vorbis", 44_100, None, 2), ("wma", 44_100, 64, 2),
    ("wav-gsm", 8_000, None, 1), ("wav-g722", 16_000, None, 1), ("vox", 8_000, None, 1), ("wav-mu-law", 8_000, None, 1),
    ("wav-ima-adpcm", 44_100, None, 2),
)  # fmt: skip


class LikenessTests(TestCase):
    @slow
    def test_right_results_pass_and_wrong_ones_do_not(self) -> None:
        for key, rate, kbps, channels in _CASES:
            encoding = encoding_for(key)
            depth = encoding.depths[0] if encoding.depths else 0
            shape = SoundShape(sample_rate=rate, channels=channels, depth_bits=depth)
            for kind in ("speech", "bells"):
                with self.subTest(key=key, kbps=kbps, kind=kind):
                    before, after = coded(
                        encoding, shape, kinds(rate, channels)[kind], EncoderSettings(bitrate_kbps=kbps)
                    )
                    source = sketch_of(before, shape)
                    found = compared(source, sketch_of(after, shape))
                    self.assertEqual((found.verdict, found.text), (Verdict.PASSED, ""))
                    self.assertLess(found.difference_db, 0)
                    if found.difference_db < -12:
                        louder = compared(source, sketch_of(after * 1.4125, shape))
                        self.assertRegex(louder.text, r"is [234]\.\d dB louder")
                    for name, other in wrongs(after, rate):
                        wrong = compared(source, sketch_of(other, shape))
                        self.assertEqual(wrong.verdict, Verdict.FAILED, (name, wrong))
                        if name == "channels swapped":
                            self.assertIn("swapped", wrong.text)

    def test_what_is_missing_is_said_with_its_time(self) -> None:
        shape = SoundShape(sample_rate=44_100, channels=2, depth_bits=16)
        sound = kinds(44_100, 2)["chords"]
        silent = sound.copy()
        silent[3 * 44_100 : 4 * 44_100, 1] = 0
        found = compared(sketch_of(sound, shape), sketch_of(silent, shape))
        self.assertEqual(found.text, "channel 2 is silent from 0 min 3 s, where the source is not")

    def test_the_same_is_the_same_and_silence_is_like_silence(self) -> None:
        shape = SoundShape(sample_rate=8_000, channels=1, depth_bits=16)
        sound = kinds(8_000, 1)["speech"]
        same = compared(sketch_of(sound, shape), sketch_of(sound, shape))
        self.assertLess(same.difference_db, -90)
        nothing = compared(sketch_of(sound * 0, shape), sketch_of(sound * 0, shape))
        self.assertEqual(nothing.verdict, Verdict.PASSED)

    def test_only_what_a_window_reaches_into_is_wanted_and_blocks_may_be_cut_anyhow(self) -> None:
        shape = SoundShape(sample_rate=44_100, channels=2, depth_bits=16)
        sound = kinds(44_100, 2)["bells"]
        whole, pieces, at = sketch_of(sound, shape), Sketch(shape, 6), 0
        taken = 0
        for length in (1_152, 311, 4_096) * 30:
            block = sound[at : at + length]
            if pieces.next_wanted(at)[0] < at + len(block):
                pieces.push(block, at)
                taken += len(block)
            at += len(block)
        self.assertLess(taken, 0.5 * at)
        self.assertGreater(pieces.windows, 3)
        for one, other in zip(whole.batches(), pieces.batches(), strict=True):
            self.assertTrue(np.array_equal(one[: pieces.windows], other))

    def test_a_peak_is_looked_for_at_the_loudest_place_of_every_few_seconds_and_in_the_windows(self) -> None:
        shape = SoundShape(sample_rate=1_000, channels=2, depth_bits=0)
        sound = np.full((100_000, 2), 0.1, dtype=np.float32)
        sound[[1_900, 1_950, 3_999, 4_500, 9_800], [0, 1, 0, 1, 0]] = 0.8, -0.9, 0.75, 0.72, 0.69
        source = Sketch(shape, 100)
        for start in range(0, len(sound), 500):
            source.push(sound[start : start + 500], start)
        self.assertEqual(source.hot, (1_950, 4_500))
        self.assertAlmostEqual(source.peak, 0.9, 6)
        for place, found in ((1_950, 1.25), (99_010, 1.25), (9_800, 0.9)):
            after = sound.copy()
            after[place, 1] = -1.25
            result = Sketch(shape, 100, hot=source.hot)
            at = 0
            while at < len(after):
                start, end = result.next_wanted(at)
                result.push(after[start:end], start)
                at = end
            self.assertAlmostEqual(compared(source, result).peak_dbfs, 20 * np.log10(found), 1)
