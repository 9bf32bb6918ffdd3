"""Images in every form: whole or not at all, with every sample of the sources and silence between."""

import os
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from rumbrel.core.disc.cue_sheet import parse_cue_sheet, read_cue_file
from rumbrel.core.disc.image import read_back, write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR
from rumbrel.core.errors import Cancelled, DiscError, OutputError
from rumbrel.core.files import working_path
from rumbrel.core.progress import Progress
from tests.core.case import FolderCase
from tests.core.disc.case import DiscCase
from tests.core.disc.test_layout import programme
from tests.signals import leftovers, write_sound


class WrittenTests(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.paths = [write_sound(self.folder / f"{n}.wav", 200_000 + 7 * n, seed=n) for n in (1, 2)]
        parts = [programme(str(path), 200_000 + 7 * n, f'Peal "{n}"') for n, path in enumerate(self.paths, 1)]
        self.layout = lay_out(parts, gap_sectors=150, medium=medium_for("74"))

    def test_the_image_holds_the_sources_and_silence_between(self) -> None:
        image = write_image(self.layout, self.folder / "out", "shop")
        samples = np.frombuffer(image.bin_path.read_bytes(), "<i2").reshape(-1, 2)
        self.assertEqual(samples.nbytes, self.layout.total_sectors * BYTES_PER_SECTOR)
        for track, path in zip(self.layout.tracks, self.paths, strict=True):
            source, _ = soundfile.read(path, dtype="int16")
            start = track.start_sector * 588
            np.testing.assert_array_equal(samples[start : start + len(source)], source)
            self.assertFalse(samples[start + len(source) : track.end_sector * 588].any())
        self.assertTrue(read_back(image).equal)
        sheet = parse_cue_sheet(image.cue_path.read_text())
        self.assertEqual({track.file.name for track in sheet.tracks}, {"shop.bin"})
        self.assertEqual([t.start_sector for t in sheet.tracks], [t.start_sector for t in self.layout.tracks])
        self.assertEqual(leftovers(self.folder), [])

    def test_one_byte_in_any_region_is_told_with_its_place(self) -> None:
        """Hidden sound, each gap, the first and last sector of each track, the subcode of each, the packs."""
        first, second = (replace(track.programme, isrc="XXA012600001") for track in self.layout.tracks)
        hidden = replace(first, samples=44_100 * 3)
        layout = lay_out([first, second], gap_sectors=150, medium=medium_for("74"), hidden=hidden)
        image = write_image(layout, self.folder / "out", "shop")
        self.assertEqual(read_back(image).differences, ())
        one, two = layout.tracks
        self.assertGreater(one.gap_sectors, 0)
        cases = [
            (".bin", 0, "the gap before track 1 at 0:00:00 (m:s:f, 1 sector)", 1),
            (".bin", one.start_sector - 1, "the gap before track 1 at 0:02:74", 1),
            (".bin", one.start_sector, "track 1 at 0:03:00", 1),
            (".bin", one.end_sector - 1, "track 1 at", 1),
            (".bin", two.start_sector - 150, "the gap before track 2 at", 2),
            (".bin", two.start_sector - 1, "the gap before track 2 at", 2),
            (".bin", two.start_sector, "track 2 at", 2),
            (".bin", layout.total_sectors - 1, "track 2 at", 2),
            (".sub", 5, "the subcode of the gap before track 1 at 0:00:05", 1),
            (".sub", one.end_sector - 1, "the subcode of track 1 at", 1),
            (".sub", two.start_sector - 3, "the subcode of the gap before track 2 at", 2),
            (".sub", layout.total_sectors - 1, "the subcode of track 2 at", 2),
            (".cdt", 0, "the CD-Text", 0),
        ]  # fmt: skip
        sizes = {".bin": BYTES_PER_SECTOR, ".sub": 96, ".cdt": 18}
        for suffix, sector, said, number in cases:
            path = image.bin_path.with_suffix(suffix)
            right = path.read_bytes()
            for byte in (sector * sizes[suffix], (sector + 1) * sizes[suffix] - 1):
                with self.subTest(suffix=suffix, sector=sector, byte=byte):
                    wrong = bytearray(right)
                    wrong[byte] ^= 1
                    path.write_bytes(wrong)
                    found = read_back(image)
                    self.assertEqual(len(found.differences), 1)
                    self.assertTrue(found.differences[0].startswith(said), found.differences)
                    self.assertEqual([track.equal for track in found.tracks], [number != 1, number != 2])
                    self.assertFalse(found.equal)
            path.write_bytes(right)
        # Longer, shorter, and with a sheet that places a track elsewhere.
        right = image.bin_path.read_bytes()
        image.bin_path.write_bytes(right + bytes(BYTES_PER_SECTOR))
        self.assertIn("the length of the disc", read_back(image).differences[0])
        image.bin_path.write_bytes(right[:-BYTES_PER_SECTOR])
        self.assertEqual([track.equal for track in read_back(image).tracks], [True, False])
        image.bin_path.write_bytes(right)

        def pull_out(progress: Progress) -> None:
            os.truncate(image.bin_path, BYTES_PER_SECTOR * (one.end_sector - 5))

        self.assertFalse(read_back(image, report=pull_out).equal, "pulled out while it is compared")
        image.bin_path.write_bytes(right)
        sheet = image.cue_path.read_text()
        image.cue_path.write_text(sheet.replace("INDEX 01 00:03:00", "INDEX 01 00:03:01"))
        self.assertEqual(read_back(image).differences, ("where the cue sheet says that tracks and gaps begin",))

    def test_what_players_refuse_is_not_written(self) -> None:
        whole = self.layout.tracks[0].programme
        cases = {
            "players need 4 s": [replace(whole, samples=44_100)],
            "99 allowed": [whole] * 100,
            "runs over": [replace(whole, samples=44_100 * 4441)],
            "no tracks": [],
        }
        for words, parts in cases.items():
            layout = lay_out(parts, gap_sectors=0, medium=medium_for("74"))
            with self.assertRaisesRegex(DiscError, words):
                write_image(layout, self.folder / "out", "shop")
        self.assertFalse((self.folder / "out").exists())

    def test_sheets_that_lead_elsewhere_or_make_no_sense_are_refused(self) -> None:
        for text in (
            'FILE "../x.bin" BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00',
            'FILE "x" BINARY\nTRACK 01 AUDIO\nINDEX 01 9:99:99',
            "",
        ):
            with self.assertRaises(DiscError):
                parse_cue_sheet(text)


class ImageTests(DiscCase):
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

    def test_an_image_that_was_ended_between_two_of_its_names_is_in_nobodys_way(self) -> None:
        layout = lay_out(self.parts(200_000), gap_sectors=0, medium=medium_for("74"))
        out, real, unlink = self.folder / "out", Path.replace, Path.unlink

        def fails_at_the_sheet(path: Path, target: Path) -> Path:
            if target.name == "shop.cue":
                raise OSError(30, "Read-only file system")
            return real(path, target)

        def fails_but_for_sheets(path: Path, missing_ok: bool = False) -> None:
            if path.suffix != ".cue":
                raise OSError(30, "Read-only file system")
            unlink(path, missing_ok=missing_ok)

        with mock.patch.object(Path, "replace", fails_at_the_sheet):
            with self.assertRaisesRegex(OutputError, "can only be read"):
                write_image(layout, out, "shop")
            self.assertEqual(list(out.iterdir()), [], "what had its name already goes")
            with mock.patch.object(Path, "unlink", fails_but_for_sheets):
                with self.assertRaises(OutputError), self.assertLogs("rumbrel.core.files", "WARNING"):
                    write_image(layout, out, "shop")
        self.assertIn("shop.bin", {path.name for path in out.iterdir()})
        self.assertTrue(read_back(write_image(layout, out, "shop")).equal)
        self.assertEqual(leftovers(out), [])
        # Ended behind its last name, before its lock was gone: it is an image, and kept.
        working_path(out / "shop.disc").write_text("".join(f"{path.name}\n" for path in out.iterdir()))
        with self.assertRaisesRegex(DiscError, "shop.bin is in .* already and is kept"):
            write_image(layout, out, "shop")
        for kept in ("shop.sub", "shop.cue"):
            for path in out.iterdir():
                path.unlink()
            (out / kept).write_text("another's")
            with self.assertRaisesRegex(DiscError, f"{kept} is in .* already and is kept"):
                write_image(layout, out, "shop")
            self.assertEqual((out / kept).read_text(), "another's")

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
