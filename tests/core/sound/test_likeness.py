"""A lossy result is compared with its source over its whole length: other sound, other channels, another level, gaps."""

from itertools import pairwise
from unittest import TestCase

import numpy as np

from rumbrel.core.encoders.encodings import coding_of, encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.sound.likeness import Comparison, Likeness, limits_for
from rumbrel.core.sound.likeness.bands import BAND_EDGES_HZ, StretchMaker, frame_samples
from rumbrel.core.sound.likeness.limits import UNKNOWN, Coding, read_limits, write_limits
from rumbrel.core.sound.likeness.measures import ADDED, FIGURES, LOUDER, QUIETER
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.verdict import Verdict
from tests.core.case import FolderCase
from tests.marks import slow
from tests.measure import material
from tests.measure.limits import coded, given
from tests.measure.material import Dice, Sound
from tests.measure.proof import RATE, SABOTAGES, dense

SHAPE = SoundShape(sample_rate=RATE, channels=2, depth_bits=16)
SAID = {
    "low-pass 4 kHz": "treble above", "mutes of 0.3 s": "silence", "swapped": "swapped", "inverted": "polarity",
    "stereo to mono": "difference of the two channels|both channels are equal", "left in both": "channels",
    "last sixth of another": "other sound|does not have|difference of the two|silence", "a channel mute for 5 s": "right channel",
}  # fmt: skip


def compared(source: Sound, result: Sound, settings: EncoderSettings, key: str = "mp3") -> Likeness:
    """Of a result that its encoder made of a sound, against what it should have been given."""
    encoding = encoding_for(key)
    shape = SoundShape(sample_rate=RATE, channels=source.shape[1], depth_bits=16 if key == "mp3" else 0)
    comparison = Comparison(shape, limits_for(coding_of(encoding, shape, settings)))
    comparison.push_source(given(source, shape))
    comparison.push_result(coded(encoding, shape, given(result, shape), settings))
    return comparison.likeness()


class LikenessTests(TestCase):
    @slow
    def test_every_sabotage_is_refused_and_what_it_was_is_said(self) -> None:
        right = dense(Dice(21, RATE, 2, 8.0))
        for key, settings in (("mp3", EncoderSettings(bitrate_kbps=256)), ("aac", EncoderSettings(bitrate_kbps=192))):
            honest = compared(right, right, settings, key)
            self.assertEqual((honest.verdict, honest.text, honest.compared_samples), (Verdict.PASSED, "", len(right)))
            for name, sabotage in SABOTAGES.items():
                with self.subTest(key=key, sabotage=name):
                    found = compared(right, sabotage(right), settings, key)
                    self.assertEqual(found.verdict, Verdict.FAILED, found)
                    self.assertRegex(found.text, SAID.get(name, "."))

    def test_honest_results_of_hard_sounds_pass(self) -> None:
        for number, kind in enumerate(
            (material.speech, material.clicks, material.one_note, material.noise, material.sweep)
        ):
            sound = kind(Dice(100 + number, RATE, 2, 4.0))
            for key, kbps in (("mp3", 128), ("mp3", 320), ("wma", 128)):
                with self.subTest(kind=kind.__name__, key=key, kbps=kbps):
                    found = compared(sound, sound, EncoderSettings(bitrate_kbps=kbps), key)
                    self.assertEqual((found.verdict, found.text), (Verdict.PASSED, ""), found)

    def test_the_place_is_that_of_the_fault_wherever_it_lies(self) -> None:
        right = dense(Dice(22, RATE, 2, 6.0))
        noise = np.random.default_rng(1).standard_normal((RATE // 10, 2)) * 0.3
        for second in (0.0, 2.5, 5.9):
            wrong = right.copy()
            start = min(int(second * RATE), len(right) - len(noise))
            wrong[start : start + len(noise)] += noise
            found = compared(right, wrong, EncoderSettings(bitrate_kbps=192))
            self.assertEqual(found.verdict, Verdict.FAILED)
            assert found.worst is not None
            self.assertLess(found.worst.start_seconds - 0.3, second)
            self.assertGreater(found.worst.end_seconds + 0.3, second)

    def test_how_the_sound_comes_in_blocks_changes_nothing(self) -> None:
        right = dense(Dice(23, RATE, 2, 3.0))
        block = given(right, SHAPE)
        result = coded(encoding_for("mp3"), SHAPE, block, EncoderSettings(bitrate_kbps=128))
        limits = limits_for(Coding(encoding="mp3", sample_rate=RATE, channels=2, mode="constant", amount=128))
        likenesses = []
        for sizes in ((len(block),), (1, 7_000, 333, 50_000)):
            comparison, at = Comparison(SHAPE, limits), 0
            comparison.push_result(result)
            while at < len(block):
                for size in sizes:
                    comparison.push_source(block[at : at + size])
                    at += size
            likenesses.append(comparison.likeness())
        self.assertEqual(*likenesses)

    def test_of_an_encoder_that_was_not_measured_nothing_is_called_right(self) -> None:
        sound = given(0.2 * dense(Dice(24, RATE, 2, 1.0)), SHAPE)
        comparison = Comparison(SHAPE, limits_for(Coding(encoding="unheard-of", sample_rate=RATE, channels=2)))
        comparison.push_source(sound)
        comparison.push_result(sound.astype(np.float32) / 32768)
        found = comparison.likeness()
        self.assertEqual((found.verdict, found.difference_db), (Verdict.DOUBTFUL, -120.0))
        self.assertAlmostEqual(found.peak_dbfs, 20 * np.log10(np.abs(sound.astype(float)).max() / 32768), places=2)


class StretchTests(TestCase):
    def test_a_sine_at_full_scale_has_the_energy_of_one_in_its_band_and_no_sample_is_left_out(self) -> None:
        time = np.arange(RATE + 777) / RATE
        sine = np.sin(2 * np.pi * 1_000 * time)
        one = np.stack([sine, 0.5 * sine], axis=1).astype(np.float32)
        maker = StretchMaker(RATE, 2)
        (found,) = [*maker.push(one, -one), *maker.finish()]
        band = int(np.searchsorted(BAND_EDGES_HZ, 1_000, side="right")) - 1
        np.testing.assert_allclose(found.source[1, :, band], [1.0, 0.25, 0.0625], rtol=0.02)
        np.testing.assert_allclose(found.common, -found.source, atol=1e-9)
        whole = found.sums[:, :, 2].sum(0)
        np.testing.assert_allclose(whole, (one.astype(np.float64) ** 2).sum(0), rtol=1e-3)
        stretch = frame_samples(RATE) * 6
        self.assertEqual(len(found), -(-len(one) // stretch))
        self.assertEqual([frame_samples(rate) for rate in (8_000, 44_100, 48_000, 96_000)], [256, 1024, 1024, 2048])


class LimitsTests(FolderCase):
    def test_the_row_is_the_nearest_that_is_no_better(self) -> None:
        def row(**more: object) -> Coding:
            asked = Coding(**{"encoding": "mp3", "sample_rate": RATE, "channels": 2, "mode": "constant", **more})  # type: ignore[arg-type]
            found = limits_for(asked)
            assert found is not None
            return found.coding

        self.assertEqual([row(amount=kbps).amount for kbps in (127, 128, 129, 159, 320)], [96, 128, 128, 128, 320])
        self.assertEqual(row(amount=8).amount, 48, "nothing was measured below")
        self.assertEqual((row(amount=64, channels=1).channels, row(amount=128, mode="average").mode), (1, "average"))
        near = limits_for(Coding(encoding="vorbis", sample_rate=88_200, channels=2, amount=50))
        same = limits_for(Coding(encoding="vorbis", sample_rate=96_000, channels=2, amount=50))
        assert near is not None and same is not None
        known = (near.bands > UNKNOWN) & (same.bands > UNKNOWN)
        self.assertTrue((near.bands[known] > same.bands[known]).all(), "at another rate they are wider")
        self.assertIsNone(limits_for(Coding(encoding="none", sample_rate=RATE, channels=2)))

    def test_more_bits_never_allow_more(self) -> None:
        rows = {row.coding: row for row in read_limits()}
        ways = [
            Coding(encoding="mp3", sample_rate=RATE, channels=2, mode="constant", amount=kbps)
            for kbps in (64, 128, 192, 320)
        ]
        for low, high in pairwise(ways):
            self.assertTrue((rows[low].bands >= rows[high].bands).all())
        best = rows[ways[-1]].bands[ADDED, -1, 0, 0, 3:20]
        self.assertLess(best[best > UNKNOWN].max(), -12, "at 320 kbit/s little may be added to loud bands")

    def test_what_is_kept_comes_back_rounded_up(self) -> None:
        row = read_limits()[0]
        write_limits([row], self.folder / "l.npz")
        (again,) = read_limits(self.folder / "l.npz")
        self.assertEqual((again.coding, again.gain), (row.coding, row.gain))
        np.testing.assert_array_equal(again.bands, row.bands)
        self.assertEqual((again.figures.shape, again.bands.shape[0]), ((len(FIGURES),), 3))
        self.assertEqual((ADDED, LOUDER, QUIETER), (0, 1, 2))
