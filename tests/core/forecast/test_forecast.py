"""Names, clashes, the ledger of finished work, level and trimming."""

import json
import os
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.conversion import carry_out, levelled, measure_all, verify_step, write_report
from rumbrel.core.conversion.levelling import measure
from rumbrel.core.errors import OutputError, TargetError
from rumbrel.core.forecast import (
    Action,
    Forecast,
    ForecastOptions,
    ResultLedger,
    WarningCode,
    WhenPresent,
    forecast_batch,
    gather_sources,
)
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import FILE_SYSTEMS, file_system_for, fitted_name
from rumbrel.core.sound.level import LevelMeter
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.tags import TagSet, write_tags
from rumbrel.core.targets import find_target
from rumbrel.core.targets.model import LevelRule
from rumbrel.core.targets.pattern import check_pattern
from tests.signals import decoded, music, write_sound


class FolderCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.out = self.folder / "out"

    def plan(
        self, *names: str, target: str = "archive-flac", ledger: ResultLedger | None = None, **more: object
    ) -> Forecast:
        options = ForecastOptions(**more)  # type: ignore[arg-type]
        sources = gather_sources([self.folder / name for name in names])
        return forecast_batch(sources, find_target(target), self.out, options=options, ledger=ledger)


class NameTests(FolderCase):
    @given(st.text(max_size=80), st.sampled_from(FILE_SYSTEMS), st.sampled_from(["", " (2)"]))
    @settings(max_examples=400, deadline=None)
    def test_every_name_comes_out_as_its_place_takes_it(self, stem: str, system: object, mark: str) -> None:
        name = fitted_name(stem * 5, ".flac", system, mark=mark)  # type: ignore[arg-type]
        self.assertLessEqual(system.name_length(name), system.longest_name)  # type: ignore[attr-defined]
        self.assertFalse(set(name) & system.forbidden, name)  # type: ignore[attr-defined]
        self.assertTrue(name.endswith(f"{mark}.flac") and len(name) > len(mark) + 5)
        if system.trims_end:  # type: ignore[attr-defined]
            self.assertFalse(name.partition(".")[0].lower() in system.reserved)  # type: ignore[attr-defined]

    def test_reserved_and_hostile_names(self) -> None:
        fat = file_system_for("fat32")
        for stem, wanted in (
            ("con", "_con.mp3"), ('What? "Yes": 1/2', "What 'Yes'- 1-2.mp3"), ("end. ", "end.mp3"),
            ("a\u202egpj", "agpj.mp3"), ("\n", "_.mp3"), ("", "untitled.mp3"), ("...", "untitled.mp3"),
        ):  # fmt: skip
            self.assertEqual(fitted_name(stem, ".mp3", fat), wanted)

    def test_patterns(self) -> None:
        path = write_sound(self.folder / "x.flac", 9_000)
        fields = {"title": ("Slow/peal",), "album": ("..",), "track": ("3/12",), "artist": ("A. Venning",)}
        write_tags(path, TagSet(fields=fields), container="flac", codec="flac")
        for pattern, wanted in (
            ("{artist}/{track:02} {title}", "A. Venning/03 Slow-peal.flac"),
            ("{album}/{title}", "Slow-peal.flac"),
            ("{genre}/{disc:02}-{number:03}", "-001.flac"),
            ("{sample_rate}/{codec}/{stem}", "44100/flac/x.flac"),
        ):
            output = self.plan("x.flac", pattern=pattern).steps[0].output
            self.assertEqual(Path(output).relative_to(self.out).as_posix(), wanted)
        for pattern in ("{title!r}", "{0}", "{title.upper}", "{title[0]}", "a/../{title}", "{title:{track}}", "{"):
            with self.assertRaises(TargetError):
                check_pattern(pattern)

    def test_places_of_few_folders_get_the_innermost_as_one(self) -> None:
        deep = "/".join(f"f{n}" for n in range(12))
        write_sound(self.folder / "in" / deep / "a.wav", 2_000)
        output = Path(self.plan("in", file_system="joliet").steps[0].output).relative_to(self.out)
        self.assertEqual(len(output.parts), 8)
        self.assertTrue(output.parts[-2].startswith("f6 - f7"))
        self.assertEqual(len(Path(self.plan("in").steps[0].output).relative_to(self.out).parts), 13)

    def test_clashes_are_numbered_also_where_case_does_not_count(self) -> None:
        for name in ("a/one.wav", "b/One.wav", "c/ONE.wav"):
            write_sound(self.folder / name, 2_000)
        outputs = [Path(s.output).name for s in self.plan("a", "b", "c").steps]
        self.assertEqual(outputs, ["one.flac", "One (2).flac", "ONE (3).flac"])

    def test_a_source_is_never_the_place_of_a_result(self) -> None:
        source = write_sound(self.folder / "out" / "a.flac", 9_000)
        (self.folder / "link").symlink_to(self.folder / "out")
        before = source.read_bytes()
        for place in (self.folder / "out", self.folder / "link"):
            options = ForecastOptions(when_present=WhenPresent.REPLACE)
            step = forecast_batch(gather_sources([source]), find_target("archive-flac"), place, options=options).steps[
                0
            ]
            self.assertTrue(carry_out(step).ok)
            self.assertNotEqual(os.path.realpath(step.output), os.path.realpath(source))
        self.assertEqual(source.read_bytes(), before)

    def test_a_link_loop_is_walked_once(self) -> None:
        write_sound(self.folder / "in" / "a.wav", 2_000)
        (self.folder / "in" / "loop").symlink_to(self.folder / "in")
        self.assertEqual(len(gather_sources([self.folder / "in"])), 1)


class LedgerTests(FolderCase):
    def _run(self, ledger: ResultLedger, **more: object) -> list[str]:
        plan = self.plan("in", ledger=ledger, **more)
        for step in plan.steps:
            outcome = carry_out(step)
            if step.writes and outcome.ok:
                with ledger.writing() as writer:
                    source = Path(step.source.path)
                    writer.add(
                        str(source), step.source.size_bytes, step.source.modified_ns, step.work, Path(step.output)
                    )
        return [f"{step.action}: {step.reason}" for step in plan.steps]

    def test_finished_work_is_recognised_without_opening_a_file(self) -> None:
        write_sound(self.folder / "in" / "a.wav", 9_000)
        ledger = ResultLedger(self.folder / "ledger" / "x.jsonl")
        self._run(ledger)
        again = ResultLedger(self.folder / "ledger" / "x.jsonl")

        def never(path: Path):  # type: ignore[no-untyped-def]
            raise AssertionError(f"{path} was opened")

        sources = gather_sources([self.folder / "in"])
        plan = forecast_batch(sources, find_target("archive-flac"), self.out, inspect=never, ledger=again)
        self.assertEqual([step.reason for step in plan.steps], ["up to date"])

    def test_changed_sources_and_torn_ledgers(self) -> None:
        source = write_sound(self.folder / "in" / "a.wav", 9_000)
        path = self.folder / "l.jsonl"
        self._run(ResultLedger(path))
        path.write_text(path.read_text() + '{"source": "/x", "sou')
        write_sound(source, 12_000)
        step = self.plan("in", ledger=ResultLedger(path)).steps[0]
        self.assertEqual((step.action, step.warnings[0].code), (Action.SKIP, WarningCode.STALE))
        self.assertEqual(self._run(ResultLedger(path), when_present=WhenPresent.REPLACE)[0].split(":")[0], "convert")
        self.assertEqual(self._run(ResultLedger(path)), ["skip: already there"])


class LevelTests(FolderCase):
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

    def test_tracks_equal_and_album_kept(self) -> None:
        before = [self._loudness(path) for path in self._album()]
        for path in self._run(LevelRule(mode="track", loudness_lufs=-20)):
            self.assertAlmostEqual(self._loudness(path), -20, delta=0.05)
        after = [self._loudness(path) for path in self._run(LevelRule(mode="album", loudness_lufs=-20))]
        self.assertAlmostEqual(after[1] - after[0], before[1] - before[0], delta=0.05)
        self.assertTrue(after[0] < -20 < after[1])

    def test_the_ceiling_holds_and_is_said(self) -> None:
        self._album()
        paths = self._run(LevelRule(mode="track", loudness_lufs=-5, ceiling_dbtp=-3))
        self.assertTrue(all(any(w.code is WarningCode.LEVEL for w in step.warnings) for step in self.steps))
        for path in paths:
            found = measure(inspect_file(path), 2)
            assert found is not None
            self.assertAlmostEqual(found.level.true_peak_dbtp, -3, delta=0.1)

    def test_gain_in_tags_leaves_the_samples(self) -> None:
        sources = self._album()
        paths = self._run(LevelRule(mode="tags"), target="pocket-alac")
        for source, path in zip(sources, paths, strict=True):
            np.testing.assert_array_equal(decoded(source), decoded(path))
            tags = inspect_file(path).tags
            self.assertAlmostEqual(float(tags.first("track_gain").split()[0]), -18 - self._loudness(source), delta=0.02)
            self.assertTrue(tags.first("album_gain") and tags.first("album_peak"))

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

    def test_trimming_only_when_asked(self) -> None:
        quiet = np.concatenate([np.zeros((5_000, 2)), music(44_100), np.zeros((7_000, 2))])
        write_sound(self.folder / "in" / "q.wav", sound=quiet)
        self.assertEqual(len(decoded(self._run(LevelRule())[0])), len(quiet))
        self.assertAlmostEqual(len(decoded(self._run(LevelRule(), trim=True)[0])), 44_100, delta=60)

    def test_verifying_finds_what_was_changed_afterwards(self) -> None:
        self._album()
        path = self._run(LevelRule())[0]
        data = bytearray(path.read_bytes())
        data[5_000] ^= 0x40
        path.write_bytes(data)
        self.assertIn("differ", verify_step(self.steps[0]).error)
        path.unlink()
        self.assertIn("not there", verify_step(self.steps[0]).error)


class ReportTests(FolderCase):
    def test_reports_are_whole_and_harmless(self) -> None:
        write_sound(self.folder / "=1+1.wav", 9_000)
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.folder)
        sources = gather_sources([Path("=1+1.wav"), Path("no.wav")])
        outcomes = [carry_out(step) for step in forecast_batch(sources, find_target("car-mp3"), self.out).steps]
        write_report(outcomes, self.folder / "r.csv")
        lines = (self.folder / "r.csv").read_text().splitlines()
        self.assertTrue(lines[1].startswith("'=1+1.wav,"))
        write_report(outcomes, self.folder / "r.json")
        self.assertEqual([row["ok"] for row in json.loads((self.folder / "r.json").read_text())], [True, False])
        with self.assertRaisesRegex(OutputError, "csv"):
            write_report(outcomes, self.folder / "r.txt")
