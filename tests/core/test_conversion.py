"""Steps carried out: exact where they must be, whole or not at all."""

import errno
import os
import shutil
import signal
import tempfile
import time
from pathlib import Path
from unittest import TestCase, mock

import numpy as np
import soundfile

from rumbrel.core.conversion import Outcome, Progress, carry_out, run_steps
from rumbrel.core.conversion.carry_out import Watch
from rumbrel.core.errors import Cancelled
from rumbrel.core.forecast import Action, ForecastOptions, WarningCode, WhenPresent, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.targets import all_targets, find_target
from tests.signals import convert_one, leftovers, write_sound


class FolderCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.out = self.folder / "out"


class ExactTests(FolderCase):
    def test_lossless_to_lossless_keeps_every_sample(self) -> None:
        for name, subtype in (("a.wav", "PCM_16"), ("b.wav", "PCM_24"), ("c.aiff", "PCM_24")):
            source = write_sound(self.folder / name, subtype=subtype)
            outcome = convert_one(source, "archive-flac", self.out)
            self.assertTrue(outcome.ok and outcome.checked and outcome.digest, outcome.error)
            before, _ = soundfile.read(source, dtype="int32")
            after, _ = soundfile.read(outcome.step.output, dtype="int32")
            np.testing.assert_array_equal(before, after)

    def test_every_target_makes_the_promised_length_from_every_rate(self) -> None:
        for rate, channels in ((44_100, 2), (96_000, 2), (8_000, 1), (48_000, 6)):
            source = write_sound(self.folder / f"{rate}-{channels}.wav", 25_003, rate=rate, channels=channels)
            for target in all_targets():
                outcome = convert_one(source, target.slug, self.out / target.slug)
                self.assertTrue(outcome.ok, f"{target.slug} from {rate}: {outcome.error}")
                after = inspect_file(Path(outcome.step.output))
                self.assertEqual(after.samples, round(25_003 * after.sample_rate / rate), target.slug)
                self.assertTrue(after.ok)

    def test_mono_to_stereo_has_two_equal_channels_without_dither(self) -> None:
        source = write_sound(self.folder / "mono.wav", channels=1)
        outcome = convert_one(source, "disc-wav", self.out)
        before, _ = soundfile.read(source, dtype="int16")
        after, _ = soundfile.read(outcome.step.output, dtype="int16")
        np.testing.assert_array_equal(after[:, 0], before)
        np.testing.assert_array_equal(after[:, 1], before)

    def test_tiny_source(self) -> None:
        source = write_sound(self.folder / "tiny.wav", 441)
        for target in ("car-mp3", "pocket-aac", "archive-flac", "phone-ulaw"):
            outcome = convert_one(source, target, self.out / target)
            self.assertTrue(outcome.ok, f"{target}: {outcome.error}")


class FaultTests(FolderCase):
    def test_what_is_no_sound_is_refused_with_a_sentence(self) -> None:
        (self.folder / "text.wav").write_text("only words\n" * 40)
        (self.folder / "empty.mp3").write_bytes(b"")
        (self.folder / "noise.mp3").write_bytes(bytes(range(256)) * 64)
        for name in ("text.wav", "empty.mp3", "noise.mp3", "absent.flac"):
            outcome = convert_one(self.folder / name, "car-mp3", self.out)
            self.assertEqual(outcome.step.action, Action.REFUSE, name)
            self.assertTrue(not outcome.ok and outcome.error.endswith("."), name)
        self.assertFalse(self.out.exists())

    def test_a_cut_file_is_saved_in_part_and_says_so(self) -> None:
        whole = write_sound(self.folder / "whole.flac", 200_000)
        cut = self.folder / "cut.flac"
        cut.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
        outcome = convert_one(cut, "car-mp3", self.out)
        self.assertFalse(outcome.ok)
        self.assertIn(WarningCode.CUT_SHORT, {warning.code for warning in outcome.warnings})
        self.assertTrue(0 < outcome.samples_out < 200_000)
        self.assertEqual(inspect_file(Path(outcome.step.output)).samples, outcome.samples_out)

    def test_a_full_disk_leaves_nothing_and_says_what_to_do(self) -> None:
        source = write_sound(self.folder / "a.wav", 200_000)
        real = Path.open

        def full(path: Path, *args: object, **kwargs: object) -> object:
            file = real(path, *args, **kwargs)  # type: ignore[arg-type]
            if path.name.endswith(".part") and args and "w" in str(args[0]):
                file.write = mock.Mock(side_effect=OSError(errno.ENOSPC, "No space left on device"))  # type: ignore
            return file

        with mock.patch.object(Path, "open", full):
            outcome = convert_one(source, "car-mp3", self.out)
        self.assertFalse(outcome.ok)
        self.assertIn("No space left", outcome.error)
        self.assertEqual(list(self.out.iterdir()), [])

    def test_a_source_that_changes_on_the_way_fails_its_item(self) -> None:
        source = write_sound(self.folder / "a.wav", 200_000)
        plan = forecast_batch(gather_sources([source]), find_target("archive-flac"), self.out)
        os.utime(source, (1, 1))
        outcome = carry_out(plan.steps[0])
        self.assertIn("changed while it was read", outcome.error)
        self.assertEqual(list(self.out.iterdir()), [])

    def test_cancelling_leaves_nothing(self) -> None:
        source = write_sound(self.folder / "a.wav", 300_000)
        plan = forecast_batch(gather_sources([source]), find_target("car-mp3"), self.out)
        with self.assertRaises(Cancelled):
            carry_out(plan.steps[0], Watch(cancelled=lambda: True))
        self.assertEqual(list(self.out.iterdir()), [])

    def test_a_failed_check_leaves_no_file(self) -> None:
        source = write_sound(self.folder / "a.wav")
        with mock.patch("rumbrel.core.conversion.check._decode", return_value=7):
            outcome = convert_one(source, "car-mp3", self.out)
        self.assertIn("decodes to 7 samples", outcome.error)
        self.assertEqual(list(self.out.iterdir()), [])


class PlaceTests(FolderCase):
    def test_when_present(self) -> None:
        source = write_sound(self.folder / "a.wav")
        first = Path(convert_one(source, "car-mp3", self.out).step.output)
        before = first.stat().st_mtime_ns
        self.assertEqual(convert_one(source, "car-mp3", self.out).step.action, Action.SKIP)
        self.assertEqual(first.stat().st_mtime_ns, before)
        self.assertEqual(Path(convert_one(source, "car-mp3", self.out, "number").step.output).name, "a (2).mp3")
        self.assertTrue(convert_one(source, "car-mp3", self.out, "replace").ok)
        self.assertEqual(sorted(p.name for p in self.out.iterdir()), ["a (2).mp3", "a.mp3"])

    def test_no_source_is_ever_written_over(self) -> None:
        write_sound(self.folder / "a.flac")
        write_sound(self.folder / "a.wav", subtype="PCM_24")
        (self.folder / "b.wav").symlink_to(self.folder / "a.wav")
        before = {p.name: p.read_bytes() for p in self.folder.iterdir()}
        sources = gather_sources([self.folder])
        for target in ("disc-wav", "archive-flac"):
            options = ForecastOptions(when_present=WhenPresent.REPLACE)
            plan = forecast_batch(sources, find_target(target), self.folder, options=options)
            for step in plan.steps:
                self.assertTrue(carry_out(step).ok)
        self.assertEqual(before, {name: (self.folder / name).read_bytes() for name in before})

    def test_two_results_with_one_name_and_hard_names(self) -> None:
        names = ["same.flac", "Same.wav", "-dash 'q\".wav", "ünïcode 🔔\n.wav", "x" * 240 + ".wav"]
        for name in names:
            write_sound(self.folder / "src" / name, 5_000)
        (self.folder / "src" / "loop").symlink_to(self.folder / "src")
        plan = forecast_batch(gather_sources([self.folder / "src"]), find_target("car-mp3"), self.out)
        outcomes = [carry_out(step) for step in plan.steps]
        self.assertEqual([outcome.ok for outcome in outcomes], [True] * len(names))
        self.assertEqual(len({outcome.step.output.casefold() for outcome in outcomes}), len(names))
        self.assertEqual(leftovers(self.out), [])


class PoolTests(FolderCase):
    def test_killed_workers_cost_nothing_but_time(self) -> None:
        for number in range(6):
            write_sound(self.folder / "src" / f"{number}.wav", 900_000, seed=number)
        plan = forecast_batch(gather_sources([self.folder / "src"]), find_target("car-mp3"), self.out)
        killed, outcomes = 0, []
        for event in run_steps(plan.steps, jobs=2):
            if isinstance(event, Progress) and killed < 2 and event.finished > killed:
                killed += _kill_a_child()
            elif isinstance(event, Outcome):
                outcomes.append(event)
        self.assertEqual(killed, 2)
        self.assertEqual([outcome.ok for outcome in outcomes], [True] * 6)
        self.assertEqual(leftovers(self.out), [])
        self.assertTrue(all(inspect_file(path).samples == 900_000 for path in self.out.iterdir()))

    def test_closing_the_run_stops_it_and_leaves_whole_files_only(self) -> None:
        for number in range(4):
            write_sound(self.folder / "src" / f"{number}.wav", 900_000, seed=number)
        plan = forecast_batch(gather_sources([self.folder / "src"]), find_target("car-mp3"), self.out)
        run = run_steps(plan.steps, jobs=2)
        next(event for event in run if isinstance(event, Outcome))
        run.close()  # type: ignore[attr-defined]
        done = list(self.out.glob("*.mp3"))
        self.assertTrue(1 <= len(done) < 4)
        self.assertEqual(leftovers(self.out), [])
        again = [event for event in run_steps(plan.steps, jobs=2) if isinstance(event, Outcome)]
        self.assertEqual(len(list(self.out.glob("*.mp3"))), 4)
        self.assertEqual(len(again), 4)


def _kill_a_child() -> int:
    """Kill one worker of the pool with SIGKILL; returns how many were found."""
    from multiprocessing import forkserver

    server = forkserver._forkserver._forkserver_pid  # type: ignore[attr-defined]
    children = Path(f"/proc/{server}/task/{server}/children").read_text().split()
    for child in children:
        os.kill(int(child), signal.SIGKILL)
        return 1
    time.sleep(0)
    return 0


class DamageTests(FolderCase):
    def test_mutated_files_never_crash_and_never_lie(self) -> None:
        """Bytes changed in the first kilobytes: a result, if any, holds what it says."""
        whole = {
            "flac": write_sound(self.folder / "w.flac", 8_000).read_bytes(),
            "wav": write_sound(self.folder / "w.wav", 8_000).read_bytes(),
            "mp3": Path(convert_one(self.folder / "w.wav", "car-mp3", self.out).step.output).read_bytes(),
            "m4a": Path(convert_one(self.folder / "w.wav", "pocket-aac", self.out).step.output).read_bytes(),
        }
        random = np.random.default_rng(5)
        for kind, data in whole.items():
            for number in range(40):
                mutated = bytearray(data)
                for _ in range(int(random.integers(1, 6))):
                    mutated[int(random.integers(min(2_000, len(data))))] = int(random.integers(256))
                path = self.folder / f"m.{kind}"
                path.write_bytes(mutated)
                facts = inspect_file(path)
                self.assertGreaterEqual(facts.samples, 0)
                if facts.usable and facts.samples < 1_000_000:
                    shutil.rmtree(self.out, ignore_errors=True)
                    outcome = convert_one(path, "disc-wav", self.out, "replace")
                    if outcome.ok and outcome.checked and outcome.step.action is Action.CONVERT:
                        self.assertEqual(inspect_file(Path(outcome.step.output)).samples, outcome.samples_out)
                    elif not outcome.ok:
                        self.assertTrue(outcome.error, f"{kind} {number}")
