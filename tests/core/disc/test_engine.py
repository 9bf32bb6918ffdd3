"""Joins, CD-Text, subcode, images in every form, the stand-ins, and reading with proof."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase, mock

import numpy as np
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.bench.blanks import Blank, BlankState
from rumbrel.core.bench.drive import StandInDrive, drive_for
from rumbrel.core.bench.player import StandInPlayer
from rumbrel.core.bench.recorder import StandInRecorder, steps_of
from rumbrel.core.disc.checklist import checklist
from rumbrel.core.disc.codes import check_digit, parse_isrc, parse_product_code
from rumbrel.core.disc.cue_sheet import parse_cue_sheet, read_cue_file
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.joins import joined
from rumbrel.core.disc.known_discs import names_for
from rumbrel.core.disc.layout import Programme, lay_out
from rumbrel.core.disc.media import medium_for, speed_advice
from rumbrel.core.disc.reading import read_track
from rumbrel.core.disc.subcode import q_crc, subcode_blocks
from rumbrel.core.disc.text import DiscText, TextTooLong, TrackText, decode_packs, encode_packs, read_text
from rumbrel.core.errors import Cancelled, DiscError, OutputError
from rumbrel.core.progress import Progress, no_report
from tests.core.disc.test_layout import programme
from tests.signals import leftovers, music, write_sound


class FolderCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def parts(self, *lengths: int) -> list[Programme]:
        return [
            programme(str(write_sound(self.folder / f"{n}.wav", length, seed=n)), length, f"Peal {n}")
            for n, length in enumerate(lengths, 1)
        ]


class JoinTests(FolderCase):
    def _cut(self, sound: np.ndarray, edges: list[int]) -> list[Programme]:
        parts = []
        for number, (a, b) in enumerate(zip(edges[:-1], edges[1:], strict=True), 1):
            path = write_sound(self.folder / f"{number}.wav", sound=sound[a:b])
            parts.append(replace(programme(str(path), b - a, f"Part {number}"), album="One concert"))
        return parts

    def test_a_run_holds_the_unbroken_recording(self) -> None:
        whole = music(800_123)
        parts = joined(self._cut(whole, [0, 200_111, 500_003, 800_123]))
        self.assertEqual([part.runs_on for part in parts], [False, True, True])
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("74"))
        self.assertEqual([t.start_sector for t in layout.tracks], [0, 200_111 // 588, 500_003 // 588])
        image = write_image(layout, self.folder / "out", "run")
        samples = np.frombuffer(image.bin_path.read_bytes(), "<i2").reshape(-1, 2)
        write_sound(self.folder / "whole.wav", sound=whole)
        wanted, _ = soundfile.read(self.folder / "whole.wav", dtype="int16")
        np.testing.assert_array_equal(samples[: len(wanted)], wanted)
        self.assertFalse(samples[len(wanted) :].any())
        padded = lay_out([replace(p, runs_on=False) for p in parts], gap_sectors=0, medium=medium_for("74"))
        self.assertEqual(padded.total_sectors, layout.total_sectors + 2)

    def test_a_run_at_another_rate_is_converted_as_one_stream(self) -> None:
        whole = music(480_000, rate=48_000)
        parts = []
        for number, (a, b) in enumerate(((0, 240_017), (240_017, 480_000))):
            path = write_sound(self.folder / f"{number}.wav", sound=whole[a:b], rate=48_000)
            parts.append(replace(programme(str(path), b - a, rate=48_000), runs_on=bool(number)))
        image = write_image(lay_out(parts, gap_sectors=150, medium=medium_for("74")), self.folder / "a", "a")
        path = write_sound(self.folder / "w.wav", sound=whole, rate=48_000)
        once = write_image(
            lay_out([programme(str(path), 480_000, rate=48_000)], gap_sectors=0, medium=medium_for("74")),
            self.folder / "b", "b",
        )  # fmt: skip
        joined_samples, single = (np.frombuffer(i.bin_path.read_bytes(), "<i2").astype(int) for i in (image, once))
        # The dither is drawn in blocks, so that values may differ by its two steps and no more.
        self.assertLessEqual(np.abs(joined_samples - single).max(), 2)

    def test_separate_pieces_and_faded_ends_are_no_run(self) -> None:
        one, two = music(200_000), music(200_000, seed=5) + 0.6
        self.assertFalse(joined(self._cut(np.concatenate([one, two]), [0, 200_000, 400_000]))[1].runs_on)
        faded = np.concatenate([one * np.linspace(1, 0, 200_000)[:, None], two * np.linspace(0, 1, 200_000)[:, None]])
        self.assertFalse(joined(self._cut(faded, [0, 200_000, 400_000]))[1].runs_on)
        whole = self._cut(music(400_000), [0, 200_000, 400_000])
        self.assertFalse(joined([whole[0], replace(whole[1], album="Another")])[1].runs_on)

    def test_gaps_first_pause_hidden_sound_and_marks(self) -> None:
        first, second, third = self.parts(200_000, 210_000, 220_000)
        second = replace(second, gap_sectors=75, index_samples=(58_800, 117_600))
        layout = lay_out([first, second, third], gap_sectors=150, medium=medium_for("74"), first_pause_sectors=300)
        self.assertEqual([t.gap_sectors for t in layout.tracks], [150, 75, 150])
        self.assertEqual(layout.tracks[0].start_sector, 150)
        start = layout.tracks[1].start_sector
        self.assertEqual(layout.tracks[1].index_sectors, (start + 100, start + 200))
        layout = lay_out([second], gap_sectors=0, medium=medium_for("74"), hidden=first)
        image = write_image(layout, self.folder / "out", "h")
        samples = np.frombuffer(image.bin_path.read_bytes(), "<i2").reshape(-1, 2)
        source, _ = soundfile.read(first.path, dtype="int16")
        np.testing.assert_array_equal(samples[: len(source)], source)
        self.assertEqual(read_cue_file(image.cue_path).tracks[0].gap_sector, 0)


TEXTS = st.text(st.characters(codec="latin-1", min_codepoint=32, exclude_characters="\x7f\t"), max_size=40).map(
    lambda text: "".join(sign for sign in text if not 0x7F <= ord(sign) < 0xA0)
)


class TextTests(FolderCase):
    @given(st.lists(st.tuples(TEXTS, TEXTS, st.sampled_from(["", "QZOSW2400001"])), min_size=1, max_size=20), TEXTS)
    @settings(max_examples=80, deadline=None)
    def test_texts_come_back_through_their_packs(self, rows: list[tuple[str, str, str]], title: str) -> None:
        tracks = tuple(TrackText(title=a, performer=b, isrc=c) for a, b, c in rows)
        text = DiscText(disc=TrackText(title=title), tracks=tracks, product_code="4006381333931", genre_code=3)
        try:
            packs, replaced = encode_packs(text)
        except TextTooLong:
            return
        self.assertEqual(decode_packs(packs), text)
        self.assertEqual((replaced, len(packs) % 18), ("", 0))

    def test_repeats_are_a_tab_and_strange_signs_the_nearest(self) -> None:
        tracks = tuple(TrackText(title=f"T{n}", performer="Łukasz “Ř”") for n in range(3))
        packs, replaced = encode_packs(DiscText(disc=TrackText(title="D"), tracks=tracks))
        self.assertEqual(set(replaced), set("Ł“”Ř"))
        self.assertEqual([track.performer for track in decode_packs(packs).tracks], ['Lukasz "R"'] * 3)
        performers = b"".join(packs[at + 4 : at + 16] for at in range(0, len(packs), 18) if packs[at] == 0x81)
        self.assertEqual(performers.rstrip(b"\0").split(b"\0"), [b"", b'Lukasz "R"', b"\t", b"\t"])

    def test_too_much_text_says_what_to_shorten(self) -> None:
        tracks = tuple(TrackText(title=f"{n} " + "long title " * 5) for n in range(99))
        with self.assertRaisesRegex(TextTooLong, "titles by"):
            encode_packs(DiscText(disc=TrackText(), tracks=tracks))

    def test_a_damaged_pack_is_found(self) -> None:
        packs, _ = encode_packs(DiscText(disc=TrackText(title="D"), tracks=(TrackText(title="T"),)))
        with self.assertRaisesRegex(DiscError, "damaged"):
            decode_packs(b"\x80" + packs[1:6] + b"\xff" + packs[7:])

    def test_texts_from_a_file(self) -> None:
        base = DiscText(disc=TrackText(title="A"), tracks=(TrackText(title="1"), TrackText(title="2")))
        path = self.folder / "t.toml"
        path.write_text('title = "B"\ngenre_code = 5\n[[tracks]]\nmessage = "m"\n')
        text = read_text(path, base)
        self.assertEqual((text.disc.title, text.genre_code, text.tracks[0].message), ("B", 5, "m"))
        for wrong, word in (
            ("titel = 'x'", "titel"),
            ("genre_code = 99", "28"),
            ("[[tracks]]\n" * 3, "3 tracks"),
            ("=", "TOML"),
        ):
            path.write_text(wrong)
            with self.assertRaisesRegex(DiscError, word):
                read_text(path, base)

    def test_codes(self) -> None:
        """GS1 and ISO 3901: 4006381333931 is a valid code of thirteen digits."""
        self.assertEqual(check_digit("400638133393"), 1)
        self.assertEqual(parse_product_code("4 006381 333931"), "4006381333931")
        self.assertEqual(parse_isrc("qz-osw-24-00001"), "QZOSW2400001")
        for wrong in ("4006381333932", "12", "QZOSW240001", "QZ-O!W-24-00001", "１００６３８１３３３９３１"):
            with self.assertRaises(DiscError):
                parse_product_code(wrong)
            with self.assertRaises(DiscError):
                parse_isrc(wrong)


class SubcodeTests(FolderCase):
    def test_crc_and_the_position_of_every_sector(self) -> None:
        """CRC-16 with 0x1021, start 0, inverted: 0xCE3C over 123456789 (IEC 60908, from memory)."""
        self.assertEqual(q_crc(b"123456789"), 0xCE3C)
        first, second = self.parts(200_000, 210_000)
        second = replace(second, isrc="QZOSW2400001", pre_emphasis=True)
        layout = lay_out([first, second], gap_sectors=150, medium=medium_for("74"))
        raw = b"".join(subcode_blocks(layout, product_code="4006381333931"))
        rows = np.frombuffer(raw, np.uint8).reshape(-1, 96)
        self.assertEqual(len(rows), layout.total_sectors)
        for row in rows[::7]:
            self.assertEqual(q_crc(bytes(row[12:22])), int.from_bytes(bytes(row[22:24]), "big"))
        start = layout.tracks[1].start_sector
        before, at = bytes(rows[start - 1][12:22]), bytes(rows[start + 1][12:22])
        self.assertEqual(before.hex()[:12], "110200000001")
        self.assertEqual(at.hex()[:12], "110201000001")
        codes = [bytes(row[12:22]) for row in rows if row[12] & 15 == 2]
        self.assertTrue(codes and all(code[1:8].hex()[:13] == "4006381333931" for code in codes))
        self.assertTrue(len(codes) >= layout.total_sectors // 100)
        isrcs = [bytes(row[12:22]) for row in rows if row[12] & 15 == 3]
        self.assertTrue(isrcs)
        bits = f"{int.from_bytes(isrcs[0][1:9], 'big'):064b}"
        self.assertEqual("".join(chr(int(bits[n * 6 : n * 6 + 6], 2) + 48) for n in range(5)), "QZOSW")
        self.assertEqual("".join(str(int(bits[32 + n * 4 : 36 + n * 4], 2)) for n in range(7)), "2400001")
        self.assertTrue((rows[start - 150 : start, :12] == 0xFF).all() and not rows[start + 1, :12].any())


class ImageTests(FolderCase):
    def test_wav_and_flac_hold_the_same_samples_as_bin(self) -> None:
        layout = lay_out(self.parts(200_000, 210_007), gap_sectors=150, medium=medium_for("74"))
        images = {f: write_image(layout, self.folder / f, "shop", image_format=f) for f in ("bin", "wav", "flac")}
        self.assertEqual(len({image.track_digests for image in images.values()}), 1)
        samples = np.frombuffer(images["bin"].bin_path.read_bytes(), "<i2").reshape(-1, 2)
        flac, _ = soundfile.read(images["flac"].bin_path, dtype="int16")
        np.testing.assert_array_equal(flac, samples)
        sheet = read_cue_file(images["wav"].cue_path)
        self.assertEqual([t.silence_sectors for t in sheet.tracks], [0, 150])
        for track, entry in zip(layout.tracks, sheet.tracks, strict=True):
            sound, _ = soundfile.read(self.folder / "wav" / entry.file.name, dtype="int16")
            np.testing.assert_array_equal(sound, samples[track.start_sector * 588 : track.end_sector * 588])
        self.assertEqual(leftovers(self.folder), [])

    def test_a_full_disk_and_a_stop_leave_no_image(self) -> None:
        layout = lay_out(self.parts(200_000), gap_sectors=0, medium=medium_for("74"))

        def stop(progress: Progress) -> None:
            raise Cancelled("Stopped.")

        with self.assertRaises(Cancelled):
            write_image(layout, self.folder / "out", "shop", report=stop)
        full = OSError(28, "No space left on device")
        with mock.patch("rumbrel.core.disc.image.subcode_blocks", side_effect=full):
            with self.assertRaisesRegex(OutputError, "no room left"):
                write_image(layout, self.folder / "out", "shop")
        self.assertEqual(list((self.folder / "out").iterdir()), [])

    def test_sheets_out_of_order_or_leading_elsewhere_are_refused(self) -> None:
        head = 'FILE "a.bin" BINARY\n'
        for text, word in (
            (head + "TRACK 01 AUDIO\nINDEX 01 00:10:00\nTRACK 02 AUDIO\nINDEX 01 00:05:00", "before track 1"),
            (head + "TRACK 01 AUDIO\nINDEX 00 00:10:00\nINDEX 01 00:05:00", "before an earlier"),
            (head + "TRACK 01 MODE1/2352\nINDEX 01 00:00:00", "data"),
            (head + "TRACK 00 AUDIO", "1 to 99"),
            ('FILE "/etc/passwd" BINARY\n', "beside"),
            ('FILE "C:\\x.bin" BINARY\n', "beside"),
            ("TRACK 01 AUDIO", "before any file"),
            (head + "TRACK 01 AUDIO\nTITLE x", "INDEX 01"),
            ("SOMETHING else", "not known"),
        ):
            with self.assertRaisesRegex(DiscError, word):
                parse_cue_sheet(text)


class BenchTests(FolderCase):
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
        self.assertIn("24x", speed_advice(medium_for("80"), 48))

    def test_trial_steps_and_pace(self) -> None:
        """80 minutes take 20 minutes at 4x: sectors / (75 x speed)."""
        layout = lay_out(self.parts(400_000), gap_sectors=0, medium=medium_for("80rw"))
        waited: list[float] = []
        report = StandInRecorder(speed=4, pace=waited.append).trial(layout, no_report)
        self.assertIsNone(report.image)
        self.assertAlmostEqual(sum(waited), layout.total_sectors / (75 * 4), places=6)
        full = replace(layout.tracks[0], sectors=360_000)
        steps = {step.name: step.seconds for step in steps_of(replace(layout, tracks=(full,)), 4)}
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

    def test_reading_with_proof(self) -> None:
        layout = lay_out(self.parts(3_000_000, 2_600_009), gap_sectors=150, medium=medium_for("74"))
        image = write_image(layout, self.folder / "out", "d")
        truth = image.bin_path.read_bytes()
        edge = layout.tracks[1].start_sector * 2352
        wanted = [truth[:edge], truth[edge:]]
        for kind in ("clean", "offset", "early", "scratched"):
            data, accounts = self._read(kind)
            shift = abs(self.drive.offset_samples) * 4
            # What lies beyond the disc's ends no drive with an offset delivers.
            self.assertEqual(data[0][shift:], wanted[0][shift:], kind)
            self.assertEqual(data[1][: len(data[1]) - shift], wanted[1][: len(wanted[1]) - shift], kind)
            verdict = "doubtful" if kind == "scratched" else "passed"
            self.assertEqual({account.verdict for account in accounts}, {verdict}, kind)
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
        bare = replace(contents, text=b"")
        self.assertEqual(names_for(bare).tracks[1].title, "Plain course")
        self.assertIsNone(names_for(replace(bare, lead_out_sector=bare.lead_out_sector + 1)))


class ChecklistTests(FolderCase):
    def test_every_code_with_its_remedy(self) -> None:
        part = self.parts(200_000)[0]
        cases = {
            "shortest": [replace(part, samples=44_100)],
            "count": [part] * 100,
            "total": [replace(part, samples=44_100 * 80 * 60)],
            "codes": [replace(part, isrc="wrong")],
            "sources": [replace(part, path="/nowhere/x.wav")],
        }
        for code, parts in cases.items():
            found = {f.code: f for f in checklist(lay_out(parts, gap_sectors=0, medium=medium_for("74")))}
            self.assertEqual(found[code].verdict, "failed", code)
        doubtful = {
            "gaps": [part, replace(part, gap_sectors=1_000)],
            "codes": [replace(part, isrc="QZOSW2400001")] * 2,
            "clipping": [replace(part, state="clipped")],
            "lossy": [replace(part, lossless=False)],
            "channels": [replace(part, state="silent")],
        }
        for code, parts in doubtful.items():
            found = {f.code: f for f in checklist(lay_out(parts, gap_sectors=0, medium=medium_for("74")))}
            self.assertEqual(found[code].verdict, "doubtful", code)
        clean = checklist(lay_out([replace(part, state="")], gap_sectors=0, medium=medium_for("74")))
        self.assertEqual({f.verdict for f in clean}, {"passed"})
