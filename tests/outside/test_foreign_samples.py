"""Files by other writers (tests/samples): what they are, how long, and that their sound comes out.

Lengths of lossless files are those that the tag library reads from their headers; it is the samples' source too.
"""

import tempfile
from pathlib import Path
from unittest import TestCase

import mutagen

from rumbrel.core.forecast import Action
from rumbrel.core.inspection import inspect_file
from tests.signals import convert_one, decoded

SAMPLES = Path(__file__).parent.parent / "samples"
# Name: container, codec, sample rate, bit depth, channels.
KINDS = {
    "seven.mpc": ("musepack", "musepack", 44_100, None, 2),
    "eight.mpc": ("musepack", "musepack", 44_100, None, 2),
    "older.ape": ("ape", "ape", 44_100, 16, 2),
    "newer.ape": ("ape", "ape", 44_100, 16, 2),
    "tagged.tak": ("tak", "tak", 44_100, 16, 2),
    "speech.spx": ("ogg", "speex", 44_100, None, 2),
    "lossless.wma": ("asf", "wma-lossless", 44_100, 16, 2),
    "professional.wma": ("asf", "wma-pro", 44_100, None, 2),
    "one-bit.dff": ("dff", "dsd", 705_600, None, 2),
    "one-bit.wv": ("wavpack", "wavpack", 352_800, None, 2),
    "two-tags-behind.mp3": ("mp3", "mp3", 16_000, None, 1),
    "more-padding-than-sound.mp3": ("mp3", "mp3", 24_000, None, 2),
}
# What their encoders put around the sound is not in the headers that the tag library goes by.
_NOT_EXACT = {"seven.mpc", "eight.mpc", "professional.wma", "lossless.wma", "more-padding-than-sound.mp3"}


class ForeignSampleTests(TestCase):
    def test_kinds_lengths_and_sound(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for name, (container, codec, rate, depth, channels) in KINDS.items():
                path = SAMPLES / name
                facts = inspect_file(path)
                self.assertEqual(
                    (facts.container, facts.codec, facts.sample_rate, facts.bit_depth, facts.channels),
                    (container, codec, rate, depth, channels),
                    name,
                )
                self.assertEqual(facts.faults, (), name)
                sound = decoded(path)
                self.assertEqual(len(sound), facts.samples, name)
                if name not in _NOT_EXACT:
                    self.assertEqual(facts.samples, round(mutagen.File(path).info.length * rate), name)
                outcome = convert_one(path, "archive-flac", Path(folder))
                self.assertTrue(outcome.ok, f"{name}: {outcome.error}")
                self.assertEqual(outcome.step.shape.sample_rate, min(rate, 352_800), name)
                if facts.bit_depth:
                    self.assertTrue(outcome.digest, name)
                    self.assertTrue((decoded(Path(outcome.step.output)) == sound).all(), name)

    def test_tags_of_kinds_that_we_do_not_write(self) -> None:
        self.assertEqual(inspect_file(SAMPLES / "tagged.tak").tags.first("artist"), "The Artist")

    def test_a_header_that_states_a_wrong_length_of_itself_is_refused_beforehand(self) -> None:
        """Decoders find no sound behind it, so the forecast must not promise any."""
        with tempfile.TemporaryDirectory() as folder:
            outcome = convert_one(SAMPLES / "wrong-header-length.flac", "disc-wav", Path(folder))
        self.assertEqual(outcome.step.action, Action.REFUSE)
