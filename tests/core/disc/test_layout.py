"""Discs: sector arithmetic by property, layout, image and read-back."""

from dataclasses import replace
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from rumbrel.core.disc.layout import Programme, lay_out, radius_mm
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import format_msf, parse_msf, sectors_for_samples
from rumbrel.core.sound.decoding import StreamChoice


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


class PlacedTests(TestCase):
    def test_tracks_that_run_on_share_the_sector_of_their_join(self) -> None:
        """Three of 10.5 sectors each: joins at whole sectors before the samples, silence only at the end."""
        part = programme("x", 588 * 400 + 294)
        tracks = [part, *[replace(part, runs_on=True)] * 2, part]
        laid = lay_out(tracks, gap_sectors=150, medium=medium_for("74")).tracks
        self.assertEqual([t.start_sector for t in laid], [0, 400, 801, 1_352])
        self.assertEqual([t.sectors for t in laid], [400, 401, 401, 401])
        self.assertEqual([t.gap_sectors for t in laid], [0, 0, 0, 150])
        self.assertEqual([t.runs_on for t in laid], [False, True, True, False])
        self.assertEqual([t.number for t in laid], [1, 2, 3, 4])

    def test_lengths_of_a_run_are_rounded_once_at_another_rate(self) -> None:
        part = programme("x", 48_001, rate=48_000)
        laid = lay_out([part, *[replace(part, runs_on=True)] * 9], gap_sectors=0, medium=medium_for("74"))
        self.assertEqual(laid.total_sectors, sectors_for_samples(round(480_010 * 44_100 / 48_000)))

    def test_the_first_track_runs_on_from_nothing(self) -> None:
        laid = lay_out([replace(programme("x", 588 * 300), runs_on=True)], gap_sectors=150, medium=medium_for("74"))
        self.assertEqual((laid.tracks[0].runs_on, laid.tracks[0].gap_sectors, laid.total_sectors), (False, 0, 300))

    def test_a_longer_first_pause_and_hidden_sound_lie_before_track_1(self) -> None:
        part = programme("x", 588 * 300)
        for pause, hidden, start in ((150, None, 0), (100, None, 0), (151, None, 1), (225, part, 375)):
            laid = lay_out([part], gap_sectors=99, medium=medium_for("74"), first_pause_sectors=pause, hidden=hidden)
            self.assertEqual((laid.tracks[0].start_sector, laid.tracks[0].gap_sectors), (start, start))

    def test_marks_inside_a_track_alone_become_indexes(self) -> None:
        marks = (0, 587, 588, 588 * 299 + 587, 588 * 300)
        part = replace(programme("x", 588 * 300), index_samples=marks)
        laid = lay_out([programme("y", 588 * 310), part], gap_sectors=10, medium=medium_for("74"))
        self.assertEqual(laid.tracks[1].index_sectors, (321, 619))

    def test_where_it_runs_over(self) -> None:
        capacity = medium_for("74").capacity_sectors
        for first, wanted in (
            (capacity - 400, (None, None)), (capacity - 399, (2, 299)), (capacity - 100, (2, 0)),
            (capacity - 50, (2, 0)), (capacity + 1, (1, capacity)),
        ):  # fmt: skip
            laid = lay_out(
                [programme("x", 588 * first), programme("y", 588 * 300)], gap_sectors=100, medium=medium_for("74")
            )
            over = laid.runs_over_in
            self.assertEqual((over.number if over else None, laid.runs_over_at), wanted)
            self.assertEqual(laid.fits, over is None)
        self.assertFalse(lay_out([], gap_sectors=0, medium=medium_for("74")).fits)
