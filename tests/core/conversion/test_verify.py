"""Results that are there are compared with their sources, lossy ones too: what is not the source's sound is told."""

from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from rumbrel.core.conversion import carry_out, verify_step
from rumbrel.core.errors import DecodeError, OutputError
from rumbrel.core.forecast import Step, WarningCode
from tests.core.forecast.case import PlanCase
from tests.marks import slow
from tests.measure.proof import Case, tampered_outcome
from tests.signals import write_sound

STATEMENT = "rumbrel.core.conversion.against_source.encoder_statement"


class BesideAnotherTests(PlanCase):
    """Where the table of limits does not tell, the encoder makes the result once more to compare with."""

    @slow
    def test_what_the_coding_might_have_made_is_told_from_what_it_makes(self) -> None:
        for target, sound, wrong, said in (
            ("pocket-aac", "sparse", "clipped", "."),
            ("table-radio-wma", "sparse", "low-pass 6 kHz", "missing treble above"),
            ("small-player", "very quiet", "noise bursts", "does not have|other sound"),
            ("variable-mp3", "very quiet", "hum", "."),
        ):
            with self.subTest(target=target, wrong=wrong):
                case = Case(target=target, sound=sound, wrong=wrong, folder=self.folder / "first")
                _, verdict, text = tampered_outcome(case)
                self.assertEqual(verdict, "failed")
                self.assertRegex(text, said)
                # Of an encoder that states another version nothing is known but the table.
                with mock.patch(STATEMENT, lambda path, **more: str(path)):
                    _, verdict, _ = tampered_outcome(replace(case, folder=self.folder / "second"))
                self.assertNotEqual(verdict, "failed")

    def test_what_an_encoder_makes_of_an_odd_sound_is_said_and_is_no_fault(self) -> None:
        """A tone that lies beyond the encoder's low-pass is not in its result."""
        at = np.arange(200_000) / 44_100
        sound = 0.3 * np.sin(2 * np.pi * 18_500 * at)[:, None] * np.ones(2)
        write_sound(self.folder / "in" / "tone.wav", sound=sound)
        (step,) = self.plan("in", target="small-player").steps
        for outcome in (carry_out(step), verify_step(step)):
            self.assertTrue(outcome.ok, outcome.error)
            (text,) = (each.text for each in outcome.warnings if each.code is WarningCode.ENCODER_LEAVES)
            self.assertIn("Coded again, it comes out alike", text)
            self.assertNotIn(WarningCode.NOT_COMPARED, [each.code for each in outcome.warnings])
        # The table alone refuses it.
        with mock.patch("rumbrel.core.conversion.against_source._make_again", side_effect=OutputError("no room")):
            self.assertFalse(verify_step(step).ok)


class MayPassTests(PlanCase):
    def test_a_failure_of_the_surroundings_may_pass_and_one_of_the_file_does_not(self) -> None:
        path = write_sound(self.folder / "in" / "a.flac", 90_000)
        (step,) = self.plan("in", target="car-mp3").steps
        with mock.patch("rumbrel.core.conversion.lane.working_file", side_effect=OutputError("No room.")):
            self.assertTrue(carry_out(step).may_pass)
        away = path.rename(self.folder / "a.flac")
        self.assertTrue(carry_out(step).may_pass, "it was not there")
        away.rename(path)
        self.assertTrue(carry_out(step).ok)
        write_sound(self.folder / "in2" / "b.flac", 90_000)
        (step,) = self.plan("in2", target="car-mp3").steps
        with mock.patch("rumbrel.core.conversion.lane.Lane.push", side_effect=DecodeError("No sound.")):
            outcome = carry_out(step)
        self.assertEqual((outcome.ok, outcome.may_pass), (False, False))


class VerifyTests(PlanCase):
    def step(self, target: str, name: str = "a.wav", *, seed: int = 1, **more: int) -> Step:
        path = write_sound(self.folder / "in" / name, 300_000, seed=seed, **more)
        steps = self.plan("in", target=target).steps
        step = next(each for each in steps if each.source.path == str(path))
        self.assertTrue(carry_out(step).ok)
        return step

    def test_an_untouched_result_passes_with_its_figure(self) -> None:
        for target in ("car-mp3", "pocket-aac", "open-opus", "open-vorbis", "table-radio-wma", "phone-ulaw"):
            with self.subTest(target=target):
                outcome = verify_step(self.step(target, f"{target}.wav"))
                self.assertTrue(outcome.ok, outcome.error)
                self.assertLess(outcome.difference_db or 0, -10)

    def test_another_sound_of_the_right_length_does_not(self) -> None:
        step = self.step("car-mp3")
        sound = np.random.default_rng(3).standard_normal((300_000, 2)) * 0.1
        for name, other in (("noise", sound), ("silence", sound * 0)):
            with self.subTest(name=name):
                wrong = write_sound(self.folder / name / f"{name}.wav", sound=other)
                made = next(iter(self.plan(name, target="car-mp3").steps))
                self.assertTrue(carry_out(made).ok)
                Path(step.output).write_bytes(Path(made.output).read_bytes())
                found = verify_step(step)
                self.assertFalse(found.ok, wrong)
                self.assertIn("The result is not like its source", found.error)

    def test_a_lossless_result_that_is_not_the_sources_own_depth_is_compared_to_the_sample(self) -> None:
        """Deeper sound is dithered to 16 bit: not the source's samples, but still those that were written."""
        write_sound(self.folder / "in" / "deep.wav", 50_000, subtype="PCM_24")
        step = self.plan("in", target="disc-wav").steps[0]
        outcome = carry_out(step)
        self.assertEqual((outcome.ok, outcome.digest, outcome.difference_db), (True, "", None))
        self.assertTrue(verify_step(step).ok)
        raw = bytearray(Path(step.output).read_bytes())
        raw[-1_000] ^= 1
        Path(step.output).write_bytes(raw)
        self.assertIn("differ from those that were written", verify_step(step).error)
        self.assertTrue(verify_step(replace(step, action=step.action.SKIP)).ok)
