"""Steps carried out: exact where they must be, whole or not at all."""

import json
import os
import resource
import shutil
import signal
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from unittest import mock

import mutagen.apev2
import numpy as np
import soundfile

from rumbrel.core.conversion import Outcome, carry_out, run_steps
from rumbrel.core.conversion.carry_out import Watch
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.errors import Cancelled
from rumbrel.core.forecast import (
    Action,
    ForecastOptions,
    Step,
    Warning,
    WarningCode,
    WhenPresent,
    forecast_batch,
    gather_sources,
)
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.likeness import Likeness, Place
from rumbrel.core.tags import Cover, TagSet, apply_rules, write_tags
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import all_targets, find_target
from rumbrel.core.verdict import Verdict
from tests.core.case import FolderCase
from tests.marks import slow
from tests.signals import convert_one, leftovers, write_framed, write_sound


class ExactTests(FolderCase):
    def test_lossless_to_lossless_keeps_every_sample(self) -> None:
        for name, subtype in (("a.wav", "PCM_16"), ("b.wav", "PCM_24"), ("c.aiff", "PCM_24")):
            source = write_sound(self.folder / name, subtype=subtype)
            outcome = convert_one(source, "archive-flac", self.out)
            self.assertTrue(outcome.ok and outcome.checked and outcome.digest, outcome.error)
            before, _ = soundfile.read(source, dtype="int32")
            after, _ = soundfile.read(outcome.step.output, dtype="int32")
            np.testing.assert_array_equal(before, after)

    @slow
    def test_every_target_makes_the_promised_length_from_every_rate(self) -> None:
        for rate, channels in ((44_100, 2), (96_000, 2), (8_000, 1), (48_000, 6)):
            source = write_sound(self.folder / f"{rate}-{channels}.wav", 25_003, rate=rate, channels=channels)
            for target in all_targets():
                outcome = convert_one(source, target.slug, self.out / target.slug)
                self.assertTrue(outcome.ok, f"{target.slug} from {rate}: {outcome.error}")
                after = inspect_file(Path(outcome.step.output))
                slack = encoding_for(target.make.encoding).slack_samples if outcome.step.action is Action.CONVERT else 0
                wanted = round(25_003 * after.sample_rate / rate)
                self.assertTrue(wanted <= after.samples <= wanted + slack, f"{target.slug} {after.samples}")
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

    def test_a_disk_that_takes_no_more_leaves_nothing_and_is_the_reason_whatever_library_writes(self) -> None:
        """A limit of the system's for the size of a file stands for the disk: every library meets it, at every place."""
        source = write_sound(self.folder / "a.wav", 60_000)
        film = write_framed(self.folder / "a.mkv", "aac", muxer="matroska", seconds=3)
        tagged = write_sound(self.folder / "t.flac", 60_000)
        cover = Cover(media_type="image/png", data=b"\x89PNG\r\n\x1a\n" + bytes(300_000))
        write_tags(tagged, TagSet(covers=(cover,)), container="flac", codec="flac")
        trials = [(source, target.slug) for target in all_targets()]
        trials += [
            (film, "pocket-aac"),
            *((tagged, slug) for slug in ("archive-flac", "car-mp3", "open-vorbis", "disc-aiff")),
        ]
        before = resource.getrlimit(resource.RLIMIT_FSIZE)
        for path, slug in trials:
            step = forecast_batch(gather_sources([path]), find_target(slug), self.out).steps[0]
            whole = carry_out(step)
            self.assertTrue(whole.ok, whole.error)
            Path(step.output).unlink()
            for size_bytes in (1, whole.bytes_out // 2, whole.bytes_out - 1):
                resource.setrlimit(resource.RLIMIT_FSIZE, (size_bytes, before[1]))
                try:
                    outcome = carry_out(step)
                finally:
                    resource.setrlimit(resource.RLIMIT_FSIZE, before)
                with self.subTest(path=path.name, slug=slug, size_bytes=size_bytes):
                    self.assertFalse(outcome.ok)
                    self.assertIn(f"Not written: the file is larger than {self.out} can take.", outcome.error)
                    self.assertEqual(list(self.out.iterdir()), [])

    def test_a_copy_whose_tags_hurt_its_sound_is_not_kept(self) -> None:
        source = write_sound(self.folder / "a.flac", 60_000)
        plan = forecast_batch(gather_sources([source]), find_target("archive-flac"), self.out)
        step = replace(plan.steps[0], extra_fields=(("genre", "Bells"),))

        def hurts(working: Path, step: Step, **kind: str) -> tuple[Warning, ...]:
            data = bytearray(working.read_bytes())
            data[-9_000] ^= 1
            working.write_bytes(data)
            return ()

        self.assertTrue(carry_out(step).ok)
        Path(step.output).unlink()
        with mock.patch("rumbrel.core.conversion.carry_out.put_tags", hurts):
            self.assertIn("sound would not be the same", carry_out(step).error)
        self.assertEqual(list(self.out.iterdir()), [])

    def test_a_source_that_changes_on_the_way_fails_its_item(self) -> None:
        source = write_sound(self.folder / "a.wav", 200_000)
        plan = forecast_batch(gather_sources([source]), find_target("archive-flac"), self.out)
        os.utime(source, (1, 1))
        outcome = carry_out(plan.steps[0])
        self.assertIn("changed after the forecast", outcome.error)
        self.assertEqual(list(self.out.iterdir()), [])

    def test_cancelling_leaves_nothing(self) -> None:
        source = write_sound(self.folder / "a.wav", 300_000)
        plan = forecast_batch(gather_sources([source]), find_target("car-mp3"), self.out)

        def stop(share: float) -> None:
            raise Cancelled("Stopped.")

        with self.assertRaises(Cancelled):
            carry_out(plan.steps[0], Watch(tell=stop))
        self.assertEqual(list(self.out.iterdir()), [])

    def test_a_failed_check_leaves_no_file(self) -> None:
        source = write_sound(self.folder / "a.wav")
        with mock.patch("rumbrel.core.conversion.check._decode", return_value=7):
            outcome = convert_one(source, "archive-flac", self.out)
        self.assertIn("decodes to 7 samples", outcome.error)
        wrong = Likeness(
            verdict=Verdict.FAILED, difference_db=1.0, peak_dbfs=0.0, compared_samples=1, text="other sound",
            worst=Place(start_seconds=61.5, end_seconds=62.0),
        )  # fmt: skip
        with mock.patch("rumbrel.core.conversion.against_source.Comparison.likeness", return_value=wrong):
            outcome = convert_one(source, "car-mp3", self.out)
        self.assertEqual(outcome.error, "The result is not like its source: other sound, worst from 1:01.5 to 1:02.0.")
        self.assertEqual((outcome.worst_seconds, outcome.difference_db), (61.5, 1.0))
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
        self.assertEqual(len({outcome.step.output for outcome in outcomes}), len(names))
        self.assertEqual(leftovers(self.out), [])


class PoolTests(FolderCase):
    @slow
    def test_workers_killed_at_random_moments_cost_nothing_but_time(self) -> None:
        for number in range(8):
            write_sound(self.folder / "src" / f"{number}.wav", 900_000, seed=number)
        plan = forecast_batch(gather_sources([self.folder / "src"]), find_target("car-mp3"), self.out)
        killed, outcomes, random = 0, [], np.random.default_rng(11)
        for event in run_steps(plan.steps, jobs=2):
            if isinstance(event, Outcome):
                outcomes.append(event)
            elif killed < 12 and random.random() < 0.7:
                killed += _kill_a_child(int(random.integers(2)))
                self.assertTrue(all(inspect_file(path).ok for path in self.out.glob("*.mp3")))
        self.assertGreaterEqual(killed, 6)
        self.assertEqual([outcome.error or outcome.ok for outcome in outcomes], [True] * 8)
        self.assertEqual(leftovers(self.out), [])
        self.assertEqual([inspect_file(path).samples for path in self.out.iterdir()], [900_000] * 8)

    @slow
    def test_a_whole_run_killed_is_continued_by_the_next_call(self) -> None:
        for number in range(4):
            write_sound(self.folder / "src" / f"{number}.wav", 1_500_000, seed=number)
        command = [sys.executable, "manage.py", "convert", "--target", "car-mp3", "--out", str(self.out), "--json"]
        environment = {**os.environ, "RUMBREL_DATA": str(self.folder / "data")}
        first = subprocess.Popen(
            [*command, str(self.folder / "src")], env=environment, stdout=subprocess.PIPE, start_new_session=True
        )
        assert first.stdout is not None
        first.stdout.readline()
        os.killpg(first.pid, signal.SIGKILL)
        first.wait()
        first.stdout.close()
        self.assertTrue(all(inspect_file(path).ok for path in self.out.glob("*.mp3")))
        second = subprocess.run(
            [*command, str(self.folder / "src")], env=environment, capture_output=True, text=True, check=True
        )
        actions = [json.loads(line)["action"] for line in second.stdout.splitlines()]
        self.assertIn("skip", actions)
        self.assertIn("convert", actions)
        self.assertEqual([inspect_file(path).samples for path in self.out.iterdir()], [1_500_000] * 4)

    @slow
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


def _kill_a_child(which: int) -> int:
    """Kill a worker of the pool with SIGKILL; returns how many were killed."""
    from multiprocessing import forkserver

    server = forkserver._forkserver._forkserver_pid  # type: ignore[attr-defined]
    children = Path(f"/proc/{server}/task/{server}/children").read_text().split()
    for child in children[which : which + 1]:
        os.kill(int(child), signal.SIGKILL)
        return 1
    return 0


class DamageTests(FolderCase):
    MUTATIONS = 100
    """`./run faults --mutated N` reads more."""
    CONVERTED = 10

    @slow
    def test_mutated_headers_never_crash_hang_or_lie(self) -> None:
        """Bytes changed in the first kilobytes or the last: a result, if any, holds what it says."""
        wav = write_sound(self.folder / "w.wav", 8_000)
        fields = {row.name: (f"a {row.label}",) for row in FIELDS} | {"track": ("3/12",), "odd": ("Größe",)}
        cover = Cover(media_type="image/jpeg", data=b"\xff\xd8" + bytes(range(200)))
        write_tags(wav, TagSet(fields=fields, covers=(cover,)), container="wav", codec="pcm")
        whole = {"wav": wav.read_bytes()}
        for kind in ("aiff", "caf", "au", "w64"):
            whole[kind] = write_sound(self.folder / f"w.{kind}", 8_000).read_bytes()
        for codec, muxer, kind in (
            ("aac", "matroska", "mkv"), ("aac", "avi", "avi"), ("wmav2", "asf", "wma"), ("alac", "caf", "alac.caf"),
            ("tta", "tta", "tta"), ("aac", "adts", "aac"),
        ):  # fmt: skip
            path = write_framed(self.folder / f"w.{kind}", codec, muxer=muxer, rate=44_100, seconds=0.2)
            whole[kind] = path.read_bytes()
        for target in ("archive-flac", "car-mp3", "pocket-aac", "open-opus", "open-vorbis", "archive-wavpack"):
            path = Path(convert_one(wav, target, self.folder / target).step.output)
            if path.suffix == ".mp3":
                ape = mutagen.apev2.APEv2()
                ape["Title"] = "behind"
                ape.save(path)
            whole[path.suffix[1:]] = path.read_bytes()
        random = np.random.default_rng(5)
        signal.signal(signal.SIGALRM, _too_long)
        self.addCleanup(signal.alarm, 0)
        for kind, data in whole.items():
            for number in range(self.MUTATIONS):
                path = self.folder / f"m.{kind}"
                path.write_bytes(_mutated(data, random))
                signal.alarm(20)
                facts = inspect_file(path)
                self.assertTrue(facts.samples >= 0 and (facts.usable or facts.faults), f"{kind} {number}")
                if number < self.CONVERTED and facts.usable and facts.samples < 1_000_000:
                    self._convert(path)

    def _convert(self, path: Path) -> None:
        outcome = convert_one(path, "disc-wav", self.out, "replace")
        if outcome.ok and outcome.checked and outcome.step.action is Action.CONVERT:
            self.assertEqual(inspect_file(Path(outcome.step.output)).samples, outcome.samples_out)
        elif not outcome.ok:
            self.assertTrue(outcome.error)


def _too_long(signum: int, frame: object) -> None:
    raise AssertionError("a file took longer than 20 s")


def _mutated(data: bytes, random: np.random.Generator) -> bytes:
    mutated = bytearray(data)
    for _ in range(int(random.integers(1, 8))):
        place = int(random.integers(min(3_000, len(data))))
        mutated[-1 - place if random.random() < 0.3 else place] = int(random.integers(256))
    if random.random() < 0.1:
        del mutated[int(random.integers(len(mutated))) :]
    return bytes(mutated)


class ExtremeTests(FolderCase):
    @slow
    def test_odd_sources_are_converted_or_refused_with_a_sentence(self) -> None:
        sources = [
            write_sound(self.folder / "a 0.01 s.wav", 441),
            write_sound(self.folder / "eight.wav", 9_000, channels=8),
            write_sound(self.folder / "slow.wav", 9_000, rate=8_000),
            write_sound(self.folder / "fast.wav", 90_000, rate=384_000),
            write_sound(self.folder / "--json.wav", 9_000),
            write_sound(self.folder / "right\u202eleft 🔔\n.wav", 9_000),
        ]
        for source in sources:
            for target in all_targets():
                outcome = convert_one(source, target.slug, self.out / target.slug)
                self.assertTrue(
                    outcome.ok or outcome.error.endswith("."), f"{source.name} {target.slug}: {outcome.error}"
                )
                self.assertTrue(outcome.ok, f"{source.name} for {target.slug}: {outcome.error}")
        self.assertEqual(leftovers(self.out), [])

    def test_hostile_tags_and_covers_cost_at_most_themselves(self) -> None:
        source = write_sound(self.folder / "a.flac", 9_000)
        fields = {"title": ("x" * 65_536,), "artist": ("nul\0inside",), "Odd=name": ("v",), "comment": ("\ud800",)}
        lying = Cover(media_type="image/jpeg", data=b"\xff\xd8 no picture", kind=3)
        write_tags(source, TagSet(fields={k: v for k, v in fields.items() if "\ud800" not in v[0]}, covers=(lying,)),
                   container="flac", codec="flac")  # fmt: skip
        for target in (
            "car-mp3",
            "car-older",
            "pocket-aac",
            "open-opus",
            "disc-wav",
            "table-radio-wma",
            "archive-wavpack",
        ):
            outcome = convert_one(source, target, self.out / target)
            self.assertTrue(outcome.ok, f"{target}: {outcome.error}")
        codes = [w.code for w in convert_one(source, "car-older", self.out / "again").warnings]
        self.assertIn(WarningCode.TAGS_LOST, codes)

    def test_a_cover_beyond_all_measure_is_left_out_and_said(self) -> None:
        picture = Cover(media_type="image/png", data=bytes(17 * 1024 * 1024))
        kept, notes = apply_rules(TagSet(covers=(picture,)), find_target("archive-flac").tags)
        self.assertEqual((kept.covers, len(notes)), ((), 1))
        m4a = Path(convert_one(write_sound(self.folder / "m.wav"), "pocket-aac", self.out).step.output)
        flac = Path(convert_one(self.folder / "m.wav", "archive-flac", self.out).step.output)
        for whole in (m4a, flac):
            wide = self.folder / f"wide{whole.suffix}"
            data = whole.read_bytes()
            if whole is m4a:
                at = data.index(b"moov") - 4
                size = int.from_bytes(data[at : at + 4], "big")
                waste = (100 << 20).to_bytes(4, "big") + b"free"
                wide.write_bytes(data[:at] + (size + (100 << 20)).to_bytes(4, "big") + data[at + 4 : at + size] + waste)
                os.truncate(wide, at + size + (100 << 20))
            else:
                with wide.open("wb") as file:
                    # Behind STREAMINFO, five blocks of waste.
                    file.write(data[:4] + bytes([data[4] & 0x7F]) + data[5:42])
                    for number in range(5):
                        file.seek(42 + number * (16 << 20))
                        file.write(b"\x01" + ((16 << 20) - 4).to_bytes(3, "big"))
                    file.seek(42 + 5 * (16 << 20))
                    file.write(data[42:])
            self.assertIn("tags-unreadable", [str(p.code) for p in inspect_file(wide).faults], wide.suffix)
        huge = self.folder / "h.mp3"
        mp3 = Path(convert_one(write_sound(self.folder / "a.wav"), "car-mp3", self.out).step.output)
        length = 200 * 1024 * 1024
        size = bytes(length >> shift & 0x7F for shift in (21, 14, 7, 0))
        with huge.open("wb") as file:
            file.write(b"ID3\x04\0\0" + size)
            file.seek(10 + length)
            file.write(mp3.read_bytes())
        self.assertIn("tags-unreadable", [str(p.code) for p in inspect_file(huge).faults])

    def test_a_source_that_shrinks_and_a_place_that_goes(self) -> None:
        source = write_sound(self.folder / "a.wav", 400_000)
        plan = forecast_batch(gather_sources([source]), find_target("archive-flac"), self.out)
        os.truncate(source, 50_000)
        outcome = carry_out(plan.steps[0])
        self.assertIn("changed", outcome.error)
        whole = write_sound(self.folder / "b.wav", 400_000)
        plan = forecast_batch(gather_sources([whole]), find_target("car-mp3"), self.out)
        gone = False

        def vanish(share: float) -> None:
            nonlocal gone
            if share > 0.3 and not gone:
                gone = True
                shutil.rmtree(self.out)

        outcome = carry_out(plan.steps[0], Watch(tell=vanish))
        self.assertFalse(outcome.ok)
        self.assertTrue(outcome.error.endswith("."), outcome.error)
        self.assertFalse(self.out.exists() and list(self.out.iterdir()))
