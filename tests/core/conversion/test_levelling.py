"""Level and trimming: measured once, set as asked, said where the ceiling held it."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from rumbrel.core.conversion import carry_out, levelled, measure_all, verify_step
from rumbrel.core.conversion.levelling import measure
from rumbrel.core.forecast import (
    Action,
    Step,
    WarningCode,
    WhenPresent,
)
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.level import LevelMeter
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.tags import TagSet, write_tags
from rumbrel.core.targets.model import LevelRule
from tests.core.forecast.case import PlanCase
from tests.marks import slow
from tests.signals import decoded, music, write_sound


class LevelTests(PlanCase):
    def _album(self) -> list[Path]:
        paths = []
        for number, gain in enumerate((0.2, 0.6), 1):
            path = write_sound(self.folder / "in" / f"{number}.flac", sound=music(44_100 * 4, seed=number) * gain)
            write_tags(path, TagSet(fields={"album": ("Tower",)}), container="flac", codec="flac")
            paths.append(path)
        return paths

    def _loudness(self, path: Path) -> float:
        sound = decoded(path) / 2**31
        meter = LevelMeter(SoundShape(sample_rate=44_100, channels=2, depth_bits=0))
        meter.push(sound)
        return meter.level().integrated_lufs

    def _run(self, rule: LevelRule, *, trim: bool = False, target: str = "disc-wav") -> list[Path]:
        plan = self.plan("in", target=target, when_present=WhenPresent.REPLACE, level=rule, trims=trim)
        steps = levelled(
            plan.steps,
            measure_all([(each.source, each.heard_channels) for each in plan.steps], jobs=2),
            rule=rule,
            members=plan.steps,
            trim=trim,
        )
        for step in steps:
            outcome = carry_out(step)
            self.assertTrue(outcome.ok, outcome.error)
            self.assertTrue(verify_step(step).ok)
        self.steps = steps
        return [Path(step.output) for step in steps]

    @slow
    def test_tracks_equal_and_album_kept(self) -> None:
        before = [self._loudness(path) for path in self._album()]
        for path in self._run(LevelRule(mode="track", loudness_lufs=-20)):
            self.assertAlmostEqual(self._loudness(path), -20, delta=0.05)
        after = [self._loudness(path) for path in self._run(LevelRule(mode="album", loudness_lufs=-20))]
        self.assertAlmostEqual(after[1] - after[0], before[1] - before[0], delta=0.05)
        self.assertTrue(after[0] < -20 < after[1])

    @slow
    def test_the_ceiling_holds_and_is_said(self) -> None:
        self._album()
        paths = self._run(LevelRule(mode="track", loudness_lufs=-5, ceiling_dbtp=-3))
        self.assertTrue(all(any(w.code is WarningCode.LEVEL for w in step.warnings) for step in self.steps))
        for path in paths:
            found = measure(inspect_file(path), 2)
            assert found is not None
            self.assertAlmostEqual(found.level.true_peak_dbtp, -3, delta=0.1)

    @slow
    def test_gain_in_tags_leaves_the_samples(self) -> None:
        sources = self._album()
        paths = self._run(LevelRule(mode="tags"), target="pocket-alac")
        for source, path in zip(sources, paths, strict=True):
            np.testing.assert_array_equal(decoded(source), decoded(path))
            tags = inspect_file(path).tags
            self.assertAlmostEqual(float(tags.first("track_gain").split()[0]), -18 - self._loudness(source), delta=0.02)
            self.assertTrue(tags.first("album_gain") and tags.first("album_peak"))

    @slow
    def test_what_would_be_copied_is_tagged_or_made_anew(self) -> None:
        sources = self._album()
        copies = self._run(LevelRule(mode="tags"), target="archive-flac")
        self.assertEqual({step.action for step in self.steps}, {Action.COPY})
        self.assertTrue(all(inspect_file(path).tags.first("track_gain") for path in copies))
        np.testing.assert_array_equal(decoded(copies[0]), decoded(sources[0]))
        made = self._run(LevelRule(mode="track", loudness_lufs=-20), target="archive-flac")
        self.assertEqual({step.action for step in self.steps}, {Action.CONVERT})
        self.assertAlmostEqual(self._loudness(made[0]), -20, delta=0.05)
        write_sound(self.folder / "in" / "w.wav", 44_100)
        for _ in range(2):
            wav = next(path for path in self._run(LevelRule(mode="tags")) if path.name == "w.wav")
            self.assertEqual(wav.read_bytes().count(b"id3 "), 1)

    @slow
    def test_trimming_only_when_asked(self) -> None:
        quiet = np.concatenate([np.zeros((5_000, 2)), music(44_100), np.zeros((7_000, 2))])
        write_sound(self.folder / "in" / "q.wav", sound=quiet)
        self.assertEqual(len(decoded(self._run(LevelRule())[0])), len(quiet))
        self.assertAlmostEqual(len(decoded(self._run(LevelRule(), trim=True)[0])), 44_100, delta=60)

    @slow
    def test_verifying_finds_what_was_changed_afterwards(self) -> None:
        self._album()
        path = self._run(LevelRule())[0]
        data = bytearray(path.read_bytes())
        data[5_000] ^= 0x40
        path.write_bytes(data)
        self.assertIn("differ", verify_step(self.steps[0]).error)
        path.unlink()
        self.assertIn("not there", verify_step(self.steps[0]).error)


class CeilingTests(PlanCase):
    """Coding lifts peaks: what is promised holds for the coded result."""

    def setUp(self) -> None:
        super().setUp()
        # Short bursts of squares: not loud, and coding overshoots at every edge.
        time = np.arange(44_100 * 5) / 44_100
        square = np.sign(np.sin(2 * np.pi * 997 * time)) * 0.5 * (time % 1 < 0.05)
        self.path = write_sound(self.folder / "in" / "a.wav", sound=np.stack([square, square], axis=1))
        self.rule = LevelRule(mode="track", loudness_lufs=-5, ceiling_dbtp=-1)

    def _steps(self, rule: LevelRule) -> tuple[Step, ...]:
        plan = self.plan("in", target="car-mp3", level=rule)
        measured = measure_all([(each.source, each.heard_channels) for each in plan.steps], jobs=1)
        return levelled(plan.steps, measured, rule=rule, members=plan.steps)

    def test_a_track_is_coded_anew_a_little_lower(self) -> None:
        step = self._steps(self.rule)[0]
        outcome = carry_out(step)
        self.assertTrue(outcome.ok, outcome.error)
        self.assertIn("Lowered by another", " ".join(warning.text for warning in outcome.warnings))
        sound = decoded(Path(outcome.step.output))
        meter = LevelMeter(SoundShape(sample_rate=44_100, channels=2, depth_bits=0))
        meter.push(sound / 2**31)
        self.assertLessEqual(meter.level().true_peak_dbtp, -0.95)
        self.assertLess(outcome.step.treatment.gain_db, step.treatment.gain_db)

    def test_an_album_is_kept_together_and_fails_with_the_figure(self) -> None:
        outcome = carry_out(self._steps(replace(self.rule, mode="album"))[0])
        self.assertFalse(outcome.ok)
        self.assertRegex(outcome.error, r"Coded, its peaks reach −?0\.\d dBTP, \d\.\d dB above the ceiling")
        self.assertEqual(list(self.out.rglob("*.mp3")), [])

    @slow
    def test_a_limiter_that_was_asked_for_comes_near_the_loudness_below_the_ceiling(self) -> None:
        sound = music(44_100 * 6) * 0.3
        for start in range(20_000, len(sound), 60_000):
            sound[start : start + 300] += 0.6
        self.path.unlink()
        write_sound(self.folder / "in" / "b.wav", sound=sound)
        rule = replace(self.rule, loudness_lufs=-16, limits=True)
        for target in ("car-mp3", "disc-wav"):
            with self.subTest(target=target):
                plan = self.plan("in", target=target, level=rule)
                measured = measure_all([(each.source, each.heard_channels) for each in plan.steps], jobs=1)
                step = levelled(plan.steps, measured, rule=rule, members=plan.steps)[0]
                self.assertIn("peaks are limited by up to", " ".join(warning.text for warning in step.warnings))
                outcome = carry_out(step)
                self.assertTrue(outcome.ok, outcome.error)
                meter = LevelMeter(SoundShape(sample_rate=44_100, channels=2, depth_bits=0))
                meter.push(decoded(Path(outcome.step.output)) / 2**31)
                self.assertLessEqual(meter.level().true_peak_dbtp, -0.95)
                plain = levelled(plan.steps, measured, rule=self.rule, members=plan.steps)[0]
                self.assertGreater(step.treatment.gain_db, plain.treatment.gain_db + 2)
                self.assertTrue(-18.5 < meter.level().integrated_lufs < -15.8)

    def test_what_the_ceiling_forbids_is_said(self) -> None:
        texts = [warning.text for warning in self._steps(self.rule)[0].warnings]
        self.assertTrue(any("−5 LUFS is not reached" in text for text in texts), texts)
