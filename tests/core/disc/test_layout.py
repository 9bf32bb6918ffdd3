"""Discs: sector arithmetic by property, layout, image and read-back."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from rumbrel.core.disc.cue_sheet import parse_cue_sheet
from rumbrel.core.disc.image import read_back, write_image
from rumbrel.core.disc.layout import Programme, lay_out, radius_mm
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, format_msf, parse_msf, sectors_for_samples
from rumbrel.core.errors import DiscError
from rumbrel.core.sound.decoding import StreamChoice
from tests.signals import leftovers, write_sound


def programme(path: str, samples: int, title: str = "Peal", rate: int = 44_100) -> Programme:
    choice = StreamChoice(container="wav", depth_bits=16)
    return Programme(path=path, choice=choice, title=title, performer="", samples=samples, sample_rate=rate)


class ArithmeticTests(TestCase):
    @given(st.integers(0, 500_000))
    def test_times_read_back_as_they_were_written(self, sectors: int) -> None:
        self.assertEqual(parse_msf(format_msf(sectors)), sectors)
        self.assertEqual(parse_msf(format_msf(sectors, pad_minutes=True)), sectors)

    @given(st.integers(0, 10**9))
    def test_sectors_hold_the_samples_and_no_sector_more(self, samples: int) -> None:
        self.assertTrue(samples <= sectors_for_samples(samples) * 588 < samples + 588)

    @given(st.lists(st.integers(176_400, 30_000_000), min_size=1, max_size=99), st.integers(0, 375))
    def test_a_layout_adds_up(self, lengths: list[int], gap: int) -> None:
        layout = lay_out([programme("x", n) for n in lengths], gap_sectors=gap, medium=medium_for("80"))
        wanted = sum(sectors_for_samples(n) for n in lengths) + gap * (len(lengths) - 1)
        self.assertEqual(layout.total_sectors, wanted)
        self.assertEqual(layout.fits, wanted <= 360_000)
        for before, after in zip(layout.tracks, layout.tracks[1:], strict=False):
            self.assertEqual(after.start_sector - after.gap_sectors, before.end_sector)
        over = layout.runs_over_in
        self.assertEqual(over is None, layout.fits)

    def test_wrong_times_are_refused(self) -> None:
        for text in ("1:60:00", "1:00:75", "1:00", "-1:00:00", "a:b:c", ""):
            with self.assertRaises(ValueError):
                parse_msf(text)

    def test_geometry(self) -> None:
        """Values from the formula in the geometry clause: 74 minutes end at 57.8 mm (from memory)."""
        self.assertAlmostEqual(radius_mm(333_000), 57.8, delta=0.1)
        self.assertAlmostEqual(radius_mm(360_000, pitch_um=1.5), 58.1, delta=0.1)
        self.assertEqual(radius_mm(0), 25.0)


class ImageTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
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
        self.assertTrue(all(verdict.equal for verdict in read_back(image)))
        sheet = parse_cue_sheet(image.cue_path.read_text())
        self.assertEqual({track.file.name for track in sheet.tracks}, {"shop.bin"})
        self.assertEqual([t.start_sector for t in sheet.tracks], [t.start_sector for t in self.layout.tracks])
        self.assertEqual(leftovers(self.folder), [])

    def test_a_changed_sample_is_found(self) -> None:
        image = write_image(self.layout, self.folder / "out", "shop")
        data = bytearray(image.bin_path.read_bytes())
        data[self.layout.tracks[1].start_sector * BYTES_PER_SECTOR] ^= 1
        image.bin_path.write_bytes(data)
        self.assertEqual([verdict.equal for verdict in read_back(image)], [True, False])

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
