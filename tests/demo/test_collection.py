"""The demo collection: what it promises, and that it comes out the same every time."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import numpy as np

from rumbrel.core.disc.cue_sheet import parse_cue_sheet
from rumbrel.core.disc.media import medium_for
from rumbrel.core.inspection import inspect_file
from rumbrel.demo.collection import SHEET, SHEET_OF, _make_faulty, _make_piece, _write_sheet, piece_path
from rumbrel.demo.pieces import PIECES
from rumbrel.demo.synthesis import chunks
from tests.marks import slow
from tests.signals import decoded


class DemoTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_it_overruns_a_disc_and_shows_every_kind(self) -> None:
        self.assertGreaterEqual(len(PIECES), 24)
        self.assertGreater(sum(piece.seconds for piece in PIECES), 85 * 60)
        self.assertGreater(sum(piece.seconds for piece in PIECES) * 75, medium_for("80").capacity_sectors)
        for values, wanted in (
            ({piece.encoding for piece in PIECES}, {"wav", "aiff", "flac", "alac", "mp3", "aac", "opus", "vorbis"}),
            ({piece.rate for piece in PIECES}, {44_100, 48_000, 96_000}),
            ({piece.depth_bits for piece in PIECES}, {16, 24}),
            ({piece.channels for piece in PIECES}, {1, 2}),
        ):
            self.assertTrue(wanted <= values, wanted - values)
        self.assertEqual(len({piece.name.casefold() for piece in PIECES}), len(PIECES))

    def test_the_cue_sheet_cuts_the_piece_that_it_lies_beside(self) -> None:
        piece = next(piece for piece in PIECES if piece.name == SHEET_OF)
        sheet = parse_cue_sheet(SHEET)
        self.assertEqual({track.file.name for track in sheet.tracks}, {f"{Path(SHEET_OF).name}.{piece.encoding}"})
        self.assertLess(sheet.tracks[-1].start_sector / 75, piece.seconds - 60)
        for _ in range(2):
            _write_sheet(self.folder)
        self.assertEqual((self.folder / f"{SHEET_OF}.cue").read_text(), SHEET)

    def test_a_piece_comes_out_the_same_every_time_and_sounds(self) -> None:
        for maker in {piece.maker for piece in PIECES}:
            first, second = (
                np.concatenate(list(chunks(maker, seed=7, seconds=8.0, rate=22_050, channels=2))) for _ in range(2)
            )
            np.testing.assert_array_equal(first, second)
            self.assertEqual(first.shape, (176_400, 2))
            self.assertTrue(0.02 < np.abs(first).max() <= 1.0, maker)
            other = np.concatenate(list(chunks(maker, seed=8, seconds=8.0, rate=22_050, channels=2)))
            self.assertFalse(np.array_equal(first, other), maker)

    @slow
    def test_each_encoding_is_made_whole_with_its_tags(self) -> None:
        for encoding in sorted({piece.encoding for piece in PIECES}):
            piece = replace(next(piece for piece in PIECES if piece.encoding == encoding), seconds=8.0)
            _make_piece(str(self.folder), piece)
            facts = inspect_file(piece_path(self.folder, piece))
            self.assertEqual(facts.faults, (), encoding)
            self.assertEqual((facts.sample_rate, facts.channels), (piece.rate, piece.channels), encoding)
            self.assertEqual(facts.samples, round(8.0 * piece.rate), encoding)
            self.assertEqual(facts.tags.first("title"), piece.title)
            self.assertEqual(len(facts.tags.covers), int(piece.cover), encoding)
            self.assertGreater(np.abs(decoded(piece_path(self.folder, piece))).max() / 2**31, 0.01)

    def test_the_faulty_files_have_the_faults_they_are_there_for(self) -> None:
        for piece in PIECES:
            if piece.encoding == "flac" or "side A" in piece.title:
                _make_piece(str(self.folder), replace(piece, seconds=9.0, rate=44_100))
        _make_faulty(self.folder)
        codes = {
            str(fault.code)
            for path in self.folder.rglob("*.*")
            if path.is_file()
            for fault in inspect_file(path).faults
        }
        self.assertTrue({"empty", "cut-short", "wrong-extension"} <= codes, codes)
