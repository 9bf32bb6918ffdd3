"""Frames of lossy codecs are found in decoded sound, and in no other."""

from unittest import TestCase

import numpy as np

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.sound.frame_grid import SEGMENT_SAMPLES, FrameTrace, find_traces
from rumbrel.core.sound.loss import LossFinder, LossTrace
from rumbrel.core.sound.shape import SoundShape
from tests.measure import material
from tests.measure.limits import coded, given, shape_for
from tests.measure.material import Dice, Sound
from tests.measure.proof import dense
from tests.signals import melody

RATE = 44_100
_WAYS = (
    ("mp3", RATE, "MP3", 576, EncoderSettings(bitrate_kbps=128)),
    ("mp3", RATE, "MP3", 576, EncoderSettings(bitrate_kbps=320)),
    ("aac", RATE, "AAC or Vorbis", 1024, EncoderSettings(bitrate_kbps=192)),
    ("vorbis", RATE, "AAC or Vorbis", 1024, EncoderSettings(quality=0.6)),
    ("opus", 48_000, "Opus", 960, EncoderSettings(bitrate_kbps=128)),
)


def lossy(key: str, rate: int, settings: EncoderSettings, seconds: float = 6.0) -> Sound:
    """What is left of everything at once, rounded to 16 bit again."""
    encoding = encoding_for(key)
    shape = shape_for(encoding, rate, 2)
    out = coded(encoding, shape, given(dense(Dice(31, rate, 2, seconds)), shape), settings)
    return given(out.astype(np.float64), SoundShape(sample_rate=rate, channels=2, depth_bits=16)) / 32768.0


def best(sound: Sound, rate: int, start: int) -> FrameTrace:
    segment = sound[start : start + SEGMENT_SAMPLES, 0].astype(np.float32)
    return max(find_traces(segment, rate, start=start), key=lambda trace: trace.score)


def found(sound: Sound, rate: int) -> LossTrace | None:
    finder = LossFinder(SoundShape(sample_rate=rate, channels=2, depth_bits=16), len(sound))
    for start in range(0, len(sound), 30_000):
        finder.push(sound[start : start + 30_000])
    return finder.trace()


class FrameGridTests(TestCase):
    def test_the_frames_of_every_codec_are_found_where_they_are_wherever_one_begins(self) -> None:
        for key, rate, coding, hop, settings in _WAYS:
            with self.subTest(key=key, settings=settings):
                sound = lossy(key, rate, settings)
                traces = [best(sound, rate, start) for start in (31_000, 77_777)]
                self.assertEqual([(trace.coding, trace.hop) for trace in traces], [(coding, hop)] * 2)
                if key != "vorbis":
                    # Its short blocks move the frames behind them.
                    self.assertEqual(traces[0].offset, traces[1].offset)
                self.assertGreater(min(trace.score for trace in traces), 8)
                whole = found(sound, rate)
                assert whole is not None
                self.assertEqual(whole.coding, coding)
                if key != "vorbis":
                    self.assertEqual(whole.offset, traces[0].offset)

    def test_sound_that_was_never_coded_has_none(self) -> None:
        for number, make in enumerate(
            (dense, material.speech, material.buzz, material.impulses, material.noise, material.sweep)
        ):
            sound = make(Dice(40 + number, RATE, 2, 6.0))
            with self.subTest(kind=make.__name__):
                self.assertIsNone(found(np.round(sound * 32767) / 32768, RATE))
                self.assertLess(best(sound, RATE, 40_000).score, 8)

    def test_a_sudden_onset_after_silence_is_none(self) -> None:
        for seed in (1, 3, 5):
            struck = np.int16(melody(seed) * 20_000) / 32_768
            with self.subTest(seed=seed):
                self.assertIsNone(found(np.stack([struck, struck], axis=1), RATE))

    def test_a_lossy_right_channel_beside_an_honest_left_one_is_found(self) -> None:
        sound = lossy("mp3", RATE, EncoderSettings(bitrate_kbps=192))
        sound[:, 0] = dense(Dice(50, RATE, 2, 6.0))[: len(sound), 0]
        trace = found(sound, RATE)
        assert trace is not None
        self.assertEqual(trace.coding, "MP3")

    def test_too_little_and_silence_tell_nothing(self) -> None:
        self.assertEqual(find_traces(np.zeros(SEGMENT_SAMPLES, np.float32), RATE, start=0), [])
        self.assertEqual(find_traces(np.ones(SEGMENT_SAMPLES - 1, np.float32), RATE, start=0), [])
        self.assertIsNone(found(np.zeros((100, 2)), RATE))
