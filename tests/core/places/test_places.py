"""Working files and locks, cue sheets and their round trip, volumes, and the crew of workers at its edges."""

import os
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.conversion import Outcome, run_steps, verify_step
from rumbrel.core.disc.cue_sheet import CueFile, cue_sheet, parse_cue_sheet
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import MEDIA, medium_for
from rumbrel.core.disc.text import text_of
from rumbrel.core.errors import DiscError, OutputError
from rumbrel.core.files import move_into_place, output_errors, remove_leftovers, working_file, working_path
from rumbrel.core.forecast import Action, ForecastOptions, ResultLedger, WhenPresent, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import FILE_SYSTEMS, VOLUME_KINDS, file_system_for, volume_at, volume_kind_for
from rumbrel.core.progress import Progress
from rumbrel.core.targets import find_target
from tests.core.disc.test_layout import programme
from tests.signals import write_film, write_sound


class FolderCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class WorkingFileTests(FolderCase):
    def test_a_result_appears_only_when_it_is_moved(self) -> None:
        output = self.folder / "deep" / "a.mp3"
        with working_file(output) as working:
            working.write_bytes(b"whole")
            self.assertEqual(working, working_path(output))
            self.assertFalse(output.exists())
            move_into_place(working, output, replaces=False)
        self.assertEqual(output.read_bytes(), b"whole")
        with working_file(output) as working:
            working.write_bytes(b"other")
            with self.assertRaisesRegex(OutputError, "appeared"):
                move_into_place(working, output, replaces=False)
        self.assertEqual([path.name for path in output.parent.iterdir()], ["a.mp3"])

    def test_two_runs_never_write_one_result_at_once(self) -> None:
        output = self.folder / "a.mp3"
        with working_file(output) as working:
            working.write_bytes(b"mine")
            with self.assertRaisesRegex(OutputError, "another run"):
                with working_file(output):
                    self.fail("the second run got in")
            self.assertEqual(remove_leftovers(self.folder), 0)
            self.assertEqual(working.read_bytes(), b"mine")

    def test_what_a_killed_run_left_is_swept_away(self) -> None:
        script = (
            "import os, signal, sys\nfrom pathlib import Path\n"
            "from rumbrel.core.files import working_file\n"
            "with working_file(Path(sys.argv[1])) as working:\n"
            "    working.write_bytes(b'half')\n    os.kill(os.getpid(), signal.SIGKILL)\n"
        )
        ended = subprocess.run([sys.executable, "-c", script, str(self.folder / "x" / "a.mp3")])
        self.assertEqual(ended.returncode, -9)
        self.assertEqual(len(list((self.folder / "x").iterdir())), 1)
        (self.folder / "x" / "kept.part").write_bytes(b"the user's own")
        self.assertEqual(remove_leftovers(self.folder), 1)
        self.assertEqual([path.name for path in (self.folder / "x").iterdir()], ["kept.part"])

    def test_errors_of_places_say_what_to_do(self) -> None:
        for number, words in (
            (28, "no room"),
            (30, "only be read"),
            (13, "may not write"),
            (2, "Connect it"),
            (36, "too long"),
            (5, "could not"),
        ):
            with self.assertRaisesRegex(OutputError, words):
                with output_errors(Path("/some/place")):
                    raise OSError(number, os.strerror(number))


class LedgerTests(FolderCase):
    def test_two_writers_of_one_ledger_lose_nothing(self) -> None:
        for number in range(4):
            (self.folder / f"{number}").write_bytes(b"x" * number)
        first, second = ResultLedger(self.folder / "l.jsonl"), ResultLedger(self.folder / "l.jsonl")
        with first.writing() as one, second.writing() as two:
            for number, writer in enumerate((one, two, one, two)):
                status = (self.folder / str(number)).stat()
                writer.add(
                    str(self.folder / str(number)), status.st_size, status.st_mtime_ns, "w", self.folder / str(number)
                )
        whole = ResultLedger(self.folder / "l.jsonl")
        self.assertTrue(all(whole.finished(str(self.folder / str(n)), "w") for n in range(4)))
        self.assertIsNone(whole.finished(str(self.folder / "0"), "other work"))
        (self.folder / "0").write_bytes(b"changed")
        self.assertIsNone(whole.finished(str(self.folder / "0"), "w"))

    def test_places_have_ledgers_of_their_own_also_through_links(self) -> None:
        (self.folder / "real").mkdir()
        (self.folder / "link").symlink_to(self.folder / "real")
        marks = {str(ResultLedger.for_destination(self.folder, self.folder / name)._path) for name in ("real", "link")}
        self.assertEqual(len(marks), 1)


class CrewTests(FolderCase):
    def test_nothing_to_do_and_more_workers_than_work(self) -> None:
        self.assertEqual(list(run_steps([], jobs=8)), [])
        source = write_sound(self.folder / "a.wav", 9_000)
        plan = forecast_batch(
            gather_sources([source, self.folder / "gone.wav"]), find_target("disc-aiff"), self.folder / "o"
        )
        events = list(run_steps(plan.steps, jobs=8))
        self.assertEqual([e.ok for e in events if isinstance(e, Outcome)], [False, True])
        last = [e for e in events if isinstance(e, Progress)][-1]
        self.assertEqual((last.finished, last.items), (1, 1))
        self.assertAlmostEqual(last.done, last.total)

    def test_verifying_copies_and_re_wrapped_sound(self) -> None:
        film = write_film(self.folder / "in" / "f.mp4", seconds=1)
        flac = write_sound(self.folder / "in" / "a.flac")
        options = ForecastOptions(when_present=WhenPresent.REPLACE)
        for source, target, action in ((film, "pocket-aac", Action.REWRAP), (flac, "archive-flac", Action.COPY)):
            step = forecast_batch(
                gather_sources([source]), find_target(target), self.folder / "o", options=options
            ).steps[0]
            self.assertEqual(step.action, action)
            outcome = next(e for e in run_steps([step], jobs=1) if isinstance(e, Outcome))
            self.assertTrue(outcome.ok, outcome.error)
            self.assertTrue(verify_step(step).ok)
            data = bytearray(Path(step.output).read_bytes())
            data[len(data) // 2] ^= 0xFF
            Path(step.output).write_bytes(data)
            failed = verify_step(step)
            self.assertTrue(not failed.ok and failed.error.endswith("."), failed.error)


class VolumeTests(FolderCase):
    def test_every_kind_of_volume_and_file_system_can_be_asked_for(self) -> None:
        for kind in VOLUME_KINDS:
            volume = volume_at(self.folder, volume_kind_for(kind.key))
            self.assertTrue(0 < volume.free_bytes <= volume.capacity_bytes)
            self.assertGreaterEqual(volume.bytes_taken(1), 512)
            self.assertEqual(volume.room_needed([]), 0)
        for system in FILE_SYSTEMS:
            self.assertEqual(file_system_for(system.key), system)
            self.assertEqual(system.bytes_taken(0, 1 << 30), 0)
        for ask in (lambda: volume_kind_for("moon"), lambda: file_system_for("moon")):
            with self.assertRaisesRegex(OutputError, "There are"):
                ask()

    def test_a_file_too_large_for_fat_is_refused_beforehand(self) -> None:
        """FAT32 holds files of at most 4,294,967,295 bytes."""
        write_sound(self.folder / "a.flac")
        facts = replace(inspect_file(self.folder / "a.flac"), size_bytes=5_000_000_000)
        plan = forecast_batch(
            gather_sources([self.folder / "a.flac"]), find_target("archive-flac"), self.folder / "o",
            options=ForecastOptions(file_system="fat32"), inspect=lambda path: facts,
        )  # fmt: skip
        self.assertEqual(plan.steps[0].action, Action.REFUSE)
        self.assertIn("4,294,967,295", plan.steps[0].reason)


NAMES = st.text(st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp")), min_size=1, max_size=30).map(
    lambda text: " ".join(text.replace('"', "'").split())
).filter(bool)  # fmt: skip


class SheetTests(TestCase):
    @given(
        st.lists(
            st.tuples(NAMES, st.integers(200_000, 9_000_000), st.integers(0, 300), st.booleans()),
            min_size=1,
            max_size=12,
        )
    )
    @settings(max_examples=80, deadline=None)
    def test_a_sheet_reads_back_as_it_was_laid_out(self, rows: list[tuple[str, int, int, bool]]) -> None:
        parts = [
            replace(
                programme("x", samples, title),
                gap_sectors=gap,
                pre_emphasis=flag,
                copy_permitted=flag,
                index_samples=(150_000,),
            )
            for title, samples, gap, flag in rows
        ]
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"))
        text = text_of(layout, title="Tower")
        sheet = parse_cue_sheet(cue_sheet(layout, text, files=CueFile(name="x.bin", kind="BINARY")))
        for track, read in zip(layout.tracks, sheet.tracks, strict=True):
            self.assertEqual(
                (read.number, read.start_sector, read.title), (track.number, track.start_sector, track.programme.title)
            )
            self.assertEqual(
                read.start_sector - (read.gap_sector if read.gap_sector is not None else read.start_sector),
                track.gap_sectors,
            )
            self.assertEqual(read.index_sectors, track.index_sectors)
            self.assertEqual((read.pre_emphasis, read.copy_permitted), (track.programme.pre_emphasis,) * 2)
        each = tuple(CueFile(name=f"{n}.wav", kind="WAVE") for n in range(len(parts)))
        apart = parse_cue_sheet(cue_sheet(layout, text, files=each))
        self.assertEqual([t.silence_sectors for t in apart.tracks], [t.gap_sectors for t in layout.tracks])
        self.assertEqual({t.start_sector for t in apart.tracks}, {0})

    def test_media_and_their_times(self) -> None:
        """74 minutes are 333,000 sectors; 80 minutes take 3 min 20 s at 24x, lead-in and closing apart."""
        self.assertEqual(
            {m.key: m.capacity_sectors for m in MEDIA if m.key in ("74", "80")}, {"74": 333_000, "80": 360_000}
        )
        self.assertEqual(medium_for("80").data_bytes, 737_280_000)
        self.assertEqual(medium_for("74").data_bytes, 681_984_000)
        bare = medium_for("80").write_seconds(360_000, 24) - medium_for("80").write_seconds(0, 24)
        self.assertAlmostEqual(bare, 200)
        for medium in MEDIA:
            self.assertTrue(medium.careful_speed <= medium.safe_speed <= max(medium.speeds))
            self.assertIn(medium.careful_speed, medium.speeds)
        with self.assertRaisesRegex(DiscError, "There are"):
            medium_for("12")
