"""Cue sheets read back as they were written; media and their times."""

from dataclasses import replace
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.disc.cue_sheet import CueFile, cue_sheet, parse_cue_sheet
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import MEDIA, medium_for
from rumbrel.core.disc.text import text_of
from rumbrel.core.errors import DiscError
from tests.core.disc.test_layout import programme

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

    def test_a_file_that_is_named_twice_is_refused_where_its_tracks_lie_on_each_other(self) -> None:
        head = 'FILE "a.wav" WAVE\nTRACK 01 AUDIO\nINDEX 01 {}\nFILE "a.wav" WAVE\nTRACK 02 AUDIO\nINDEX 01 {}\n'
        for first, second, words in (
            ("00:00:00", "00:00:00", "track 2 begins where track 1 does in a.wav"),
            ("00:05:00", "00:04:00", "track 2 begins before track 1 does in a.wav"),
        ):
            with self.assertRaisesRegex(DiscError, words):
                parse_cue_sheet(head.format(first, second))
        sheet = parse_cue_sheet(head.format("00:00:00", "00:04:00"))
        self.assertEqual((sheet.tracks[0].end_sector, len(sheet.files)), (300, 1), "one file, named for each track")
