"""The stand-in drives: writing, and reading with proof."""

from dataclasses import replace

import numpy as np
import soundfile
from hypothesis import strategies as st

from rumbrel.core.bench.blanks import Blank, BlankState, shelf_blank
from rumbrel.core.bench.drive import StandInDrive, drive_for
from rumbrel.core.bench.player import StandInPlayer
from rumbrel.core.bench.recorder import StandInRecorder, steps_of
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.known_discs import names_for
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for, speed_advice
from rumbrel.core.disc.reading import read_track
from rumbrel.core.disc.text import text_of
from rumbrel.core.errors import Cancelled, DiscError
from rumbrel.core.progress import Progress, no_report
from tests.core.disc.case import DiscCase
from tests.core.disc.test_layout import programme
from tests.marks import slow

TEXTS = st.text(st.characters(codec="latin-1", min_codepoint=32, exclude_characters="\x7f\t"), max_size=40).map(
    lambda text: "".join(sign for sign in text if not 0x7F <= ord(sign) < 0xA0)
)


class BenchTests(DiscCase):
    def test_a_disc_written_plays_sample_by_sample(self) -> None:
        parts = self.parts(200_000, 210_007)
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("74"))
        written = StandInRecorder(speed=8).write(layout, self.folder / "out", "shop", no_report)
        self.assertTrue(written.equal and written.blank.state is BlankState.WRITTEN)
        player = StandInPlayer(self.folder / "out" / "shop.cue")
        for number, part in enumerate(parts, 1):
            source, _ = soundfile.read(part.path, dtype="int16")
            played = np.concatenate(list(player.play(number)))
            np.testing.assert_array_equal(played[: len(source)], source)

    def test_hidden_sound_seams_and_what_is_silent(self) -> None:
        first, second, before = self.parts(500_000, 500_000, 44_100)
        layout = lay_out([first, second], gap_sectors=150, medium=medium_for("74"), hidden=before)
        image = write_image(layout, self.folder / "out", "shop", text=text_of(layout, title="Days"))
        whole = image.bin_path.read_bytes()
        start, end = layout.tracks[1].start_sector, layout.tracks[1].end_sector
        player = StandInPlayer(image.cue_path, unread=[start + 1])
        self.assertEqual(player.text and player.text.disc.title, "Days")
        seam = player.span_of("seam-2")
        self.assertEqual((seam.start_sector, seam.end_sector), (start - 150 - 375, start + 375))
        heard = player.piece("seam-2", 0, seam.sectors * 2352)
        at = (150 + 375 + 1) * 2352
        self.assertFalse(any(heard[at : at + 2352]))
        wanted = whole[seam.start_sector * 2352 : seam.end_sector * 2352]
        self.assertEqual((heard[:at], heard[at + 2352 :]), (wanted[:at], wanted[at + 2352 :]))
        self.assertEqual(player.piece("hidden", 0, 75 * 2352), whole[: 75 * 2352])
        self.assertEqual(player.span_of("2").end_sector, end)
        for part in ("0", "3", "seam-1", "seam-3", "hidden-1", "", "x", "-1", "1-2"):
            with self.assertRaisesRegex(DiscError, "no track"):
                player.span_of(part)

    def test_what_spoils_a_disc(self) -> None:
        layout = lay_out(self.parts(400_000), gap_sectors=0, medium=medium_for("80"))
        with self.assertRaisesRegex(DiscError, "written"):
            StandInRecorder(speed=8).write(
                layout, self.folder, "x", lambda *_: None, blank=Blank(medium=layout.medium, state=BlankState.WRITTEN)
            )
        with self.assertRaisesRegex(DiscError, "rated"):
            StandInRecorder(speed=12).write(layout, self.folder, "x", lambda *_: None)
        verdicts = set()
        for seed in range(1, 12):
            report = StandInRecorder(speed=48, seed=seed).write(layout, self.folder / str(seed), "x", lambda *_: None)
            self.assertEqual(report.blank.state, BlankState.WRITTEN if report.equal else BlankState.SPOILED)
            again = StandInRecorder(speed=48, seed=seed).write(layout, self.folder / f"{seed}b", "x", lambda *_: None)
            self.assertEqual(report.equal, again.equal)
            verdicts.add(report.equal)
            careful = StandInRecorder(speed=8, seed=seed).write(layout, self.folder / f"{seed}c", "x", lambda *_: None)
            self.assertTrue(careful.equal)
        self.assertEqual(verdicts, {True, False})
        weak = shelf_blank("80-weak").blank
        for speed, equal in ((16, True), (24, False)):
            report = StandInRecorder(speed=speed).write(layout, self.folder / f"w{speed}", "x", no_report, blank=weak)
            self.assertEqual((report.equal, report.blank.state == "written"), (equal, equal), speed)
        self.assertIn("24x", speed_advice(medium_for("80"), 48))

    def test_trial_steps_and_pace(self) -> None:
        """80 minutes take 20 minutes at 4x: sectors / (75 x speed)."""
        layout = lay_out(self.parts(400_000), gap_sectors=0, medium=medium_for("80rw"))
        waited: list[float] = []
        report = StandInRecorder(speed=4, pace=waited.append).trial(layout, no_report)
        self.assertIsNone(report.image)
        self.assertAlmostEqual(sum(waited), layout.total_sectors / (75 * 4) + (60 + 90) / 4, places=6)
        told: list[tuple[str, float]] = []

        def tell(progress: Progress) -> None:
            told.append((progress.step, progress.share))
            if progress.step == "lead-out" and len(told) > 3:
                raise Cancelled("Stopped.")

        with self.assertRaises(Cancelled):
            StandInRecorder(speed=4, pace=lambda seconds: None).write(layout, self.folder / "paced", "x", tell)
        shares = [share for _, share in told]
        self.assertEqual(shares, sorted(shares))
        self.assertEqual(
            list(dict.fromkeys(step for step, _ in told)), ["making ready", "lead-in", "writing", "lead-out"]
        )
        # Of 15 s of lead-in at 4x, 60 pieces of a quarter of a second are told: a stop is heard in each.
        self.assertGreaterEqual(sum(1 for step, _ in told if step == "lead-in"), 60)
        self.assertEqual(list((self.folder / "paced").glob("x*")), [])
        full = replace(layout.tracks[0], sectors=360_000)
        steps = {step.name: step.seconds for step in steps_of(full.sectors, 4)}
        self.assertEqual(steps["writing"], 20 * 60)
        self.assertEqual(Blank(medium=layout.medium, state=BlankState.WRITTEN).erased().state, BlankState.BLANK)

    def test_players_refuse_data_short_tracks_and_torn_images(self) -> None:
        (self.folder / "x.iso").write_bytes(b"\0" * 4096)
        with self.assertRaisesRegex(DiscError, "data disc"):
            StandInPlayer(self.folder / "x.iso")
        (self.folder / "s.cue").write_text('FILE "s.bin" BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n')
        for size, word in ((299 * 2352, "4 s"), (300 * 2352 + 7, "cut short"), (0, "cut short")):
            (self.folder / "s.bin").write_bytes(bytes(size))
            with self.assertRaisesRegex(DiscError, word):
                StandInPlayer(self.folder / "s.cue")

    def _read(self, kind: str, *, seed: int = 3) -> tuple[list[bytes], list[object]]:
        drive = StandInDrive(self.folder / "out" / "d.cue", drive_for(kind), seed=seed)
        contents, data, accounts = drive.contents(), [], []
        for place in range(len(contents.tracks)):
            blocks, account = read_track(drive, contents, place)
            data.append(b"".join(blocks))
            accounts.append(account())
        self.drive = drive
        return data, accounts

    @slow
    def test_reading_with_proof(self) -> None:
        layout = lay_out(self.parts(3_000_000, 2_600_009), gap_sectors=150, medium=medium_for("74"))
        image = write_image(layout, self.folder / "out", "d")
        truth = image.bin_path.read_bytes()
        edge = layout.tracks[1].start_sector * 2352
        wanted = [truth[:edge], truth[edge:]]
        for kind in ("clean", "offset", "early", "scratched"):
            data, accounts = self._read(kind)
            late = 0 if self.drive.overreads else self.drive.offset_samples
            # What the offset puts beyond the disc's edge is silence, counted, and makes the track doubtful.
            self.assertEqual([account.unreached_samples for account in accounts], [0, max(0, late)], kind)
            self.assertEqual(data[0], wanted[0], kind)
            kept = len(wanted[1]) - late * 4
            self.assertEqual((data[1][:kept], data[1][kept:]), (wanted[1][:kept], bytes(late * 4)), kind)
            last = "doubtful" if late else "passed"
            first = "doubtful" if kind == "scratched" else "passed"
            self.assertEqual([account.verdict for account in accounts], [first, last], kind)
        self.assertTrue(accounts[0].reread and not accounts[0].failed and accounts[0].slowest_speed < 16)
        data, accounts = self._read("broken")
        failed = {sector for account in accounts for sector in account.failed}
        self.assertEqual(failed, {sector for sector, fault in self.drive.faults.items() if fault == "dead"})
        self.assertTrue(failed and {account.verdict for account in accounts} >= {"failed"})

    def test_names_from_the_disc_or_the_catalogue(self) -> None:
        layout = lay_out([programme(str(p.path), n * 588, p.title) for p, n in zip(
            self.parts(375 * 588, 450 * 588, 600 * 588), (375, 450, 600), strict=True)],
            gap_sectors=150, medium=medium_for("74"))  # fmt: skip
        write_image(layout, self.folder / "out", "d")
        contents = StandInDrive(self.folder / "out" / "d.cue", drive_for("clean")).contents()
        self.assertEqual(names_for(contents).tracks[0].title, "Peal 1")
        unnamed = replace(contents, text=b"")
        self.assertEqual(names_for(unnamed).tracks[1].title, "Peal 2", "as its cue sheet says")
        bare = replace(unnamed, said=None)
        self.assertEqual(names_for(bare).tracks[1].title, "Plain course")
        self.assertIsNone(names_for(replace(bare, lead_out_sector=bare.lead_out_sector + 1)))
