"""Voices of a comparison: at one time, at one level, and how far each is from the source."""

import math
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile
from scipy import stats

from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.fine_picture import load_picture
from rumbrel.core.sound.guessing import chance_of_guessing
from rumbrel.core.targets import find_target
from rumbrel.core.targets.ways import made_otherwise
from rumbrel.core.workflows.compare import (
    Excerpt,
    Voice,
    VoiceTask,
    compare_voices,
    difference_file,
    picture_file,
    voice_file,
)
from tests.signals import music, write_sound


class CompareTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def compared(
        self, path: Path, *others: object, start: float = 2.0, seconds: float = 4.0, begins: float = 0.0
    ) -> list[Voice]:
        excerpt = Excerpt(facts=inspect_file(path), start_seconds=start, seconds=seconds, folder=self.folder / "out")
        tasks = [VoiceTask(number=0, excerpt=excerpt)]
        for number, other in enumerate(others, 1):
            found = {"result": other, "begins_seconds": begins} if isinstance(other, Path) else {"target": other}
            tasks.append(VoiceTask(number=number, excerpt=excerpt, **found))
        return [event for event in compare_voices(tasks, jobs=2) if isinstance(event, Voice)]

    def heard(self, number: int) -> np.ndarray:
        return soundfile.read(voice_file(self.folder / "out", number), always_2d=True)[0]

    def test_lossless_is_the_source_and_lossy_is_as_far_as_it_is(self) -> None:
        sound = music(44_100 * 10)
        path = write_sound(self.folder / "a.wav", sound=sound)
        quieter = write_sound(self.folder / "quieter.wav", sound=sound / 4, subtype="PCM_24")
        target = find_target("car-mp3")
        low = made_otherwise(target, "mp3-constant-96")
        voices = self.compared(path, find_target("archive-flac"), target, low, find_target("speech-small"), quieter)
        self.assertEqual([voice.error for voice in voices], [""] * 6)
        self.assertEqual([voice.number for voice in voices], [0, 1, 2, 3, 4, 5])
        source, flac, high, worse, speech, turned = voices
        self.assertIsNone(flac.difference_db)
        self.assertLess(high.difference_db, worse.difference_db - 3)
        self.assertLess(worse.difference_db, speech.difference_db)
        self.assertLess(turned.difference_db, -70, "at equal level only the rounding to 16 bit differs")
        np.testing.assert_array_equal(self.heard(1), self.heard(0))
        # All of them are as loud as the quietest, which is not touched.
        self.assertAlmostEqual(turned.gain_db, 0)
        self.assertAlmostEqual(source.gain_db, -20 * math.log10(4), places=1)
        for voice in voices:
            self.assertAlmostEqual(voice.loudness_lufs + voice.gain_db, turned.loudness_lufs, places=6)
            self.assertEqual(self.heard(voice.number).shape, (4 * 44_100, 2))
        # The same sample at the same place: no lag correlates better.
        middle = self.heard(0)[44_100:88_200].mean(axis=1)
        for voice in (high, worse):
            other = self.heard(voice.number).mean(axis=1)
            lags = [float(np.dot(middle, other[44_100 + lag : 88_200 + lag])) for lag in range(-60, 61)]
            self.assertLessEqual(abs(int(np.argmax(lags)) - 60), 1, voice)
        self.assertEqual((speech.channels, speech.sample_rate), (1, 22_050))
        self.assertTrue(high.size_exact)
        self.assertAlmostEqual(high.size_bytes, 400_000, delta=4_000, msg="320 kbit/s for 10 s (arithmetic)")
        self.assertIsNotNone(load_picture(picture_file(self.folder / "out", 0)))
        self.assertIsNone(load_picture(difference_file(self.folder / "out", 0)))
        rest = load_picture(difference_file(self.folder / "out", 3))
        self.assertLess(
            int(rest.spectrum.max()), int(load_picture(picture_file(self.folder / "out", 0)).spectrum.max())
        )

    def test_every_lossy_coding_is_heard_at_the_source_s_place(self) -> None:
        path = write_sound(self.folder / "a.wav", sound=music(48_000 * 6, rate=48_000), rate=48_000)
        slugs = ("open-opus", "open-vorbis", "pocket-aac", "phone-ulaw")
        voices = self.compared(path, *map(find_target, slugs), start=1, seconds=3)
        for voice, most in zip(voices[1:], (-8, -10, -15, -3), strict=True):
            self.assertEqual(voice.error, "")
            self.assertLess(voice.difference_db, most, voice)

    def test_a_result_without_its_first_silence_is_heard_at_the_source_s_place(self) -> None:
        sound = music(44_100 * 8)
        sound[: 44_100 * 3] = 0
        path = write_sound(self.folder / "a.wav", sound=sound)
        trimmed = write_sound(self.folder / "trimmed.wav", sound=sound[44_100 * 3 :])
        for start in (1.0, 4.0):
            voices = self.compared(path, trimmed, start=start, begins=3.0)
            self.assertIsNone(voices[1].difference_db, f"from {start} s on every sample is in its place")
        self.compared(path, trimmed, start=0, seconds=2, begins=3.0)
        self.assertEqual(float(np.abs(self.heard(1)).max()), 0, "all of it was cut off")

    def test_what_cannot_be_made_is_said_and_the_others_are_heard(self) -> None:
        path = write_sound(self.folder / "a.flac", 44_100 * 3)
        voices = self.compared(path, self.folder / "gone.mp3", find_target("car-mp3"), start=0, seconds=10)
        self.assertEqual([bool(voice.error) for voice in voices], [False, True, False])
        self.assertFalse(voice_file(self.folder / "out", 1).exists())
        self.assertEqual(len(self.heard(2)), 10 * 44_100, "beyond the end there is silence")
        self.assertEqual(float(np.abs(self.heard(2)[3 * 44_100 + 2_000 :]).max()), 0)


class GuessingTests(TestCase):
    def test_the_chance_is_that_of_the_binomial_test(self) -> None:
        """Against SciPy's exact binomial test; 7 of 9 is 46/512 (by hand)."""
        for trials in range(1, 31):
            for right in range(trials + 1):
                expected = stats.binomtest(right, trials, alternative="greater").pvalue
                self.assertAlmostEqual(chance_of_guessing(right, trials), expected, places=12)
        self.assertAlmostEqual(chance_of_guessing(7, 9), 46 / 512)
        self.assertEqual(chance_of_guessing(0, 0), 1.0)
