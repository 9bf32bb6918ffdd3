"""Fitting against brute force on small cases, and large ones answered at once."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.disc.fitting import fill_from_pool, removals, split
from rumbrel.core.disc.layout import DiscLayout, lay_out, taken
from rumbrel.core.disc.media import Medium, medium_for
from rumbrel.core.disc.packing import even_runs, full_runs, pack
from rumbrel.core.disc.subsets import fullest_of_at_most, fullest_subset, smallest_cover, smallest_cover_of
from tests.core.disc.test_layout import programme

SIZES = st.lists(st.integers(1, 60), min_size=1, max_size=9)


def subsets(count: int):  # type: ignore[no-untyped-def]
    return (chosen for size in range(count + 1) for chosen in combinations(range(count), size))


def layout_of(sectors: list[int], *, gap: int = 150, medium: str = "74") -> DiscLayout:
    return lay_out([programme("x", n * 588) for n in sectors], gap_sectors=gap, medium=medium_for(medium))


class SubsetTests(TestCase):
    @given(SIZES, st.integers(0, 300))
    @settings(max_examples=150, deadline=None)
    def test_sums_are_the_best_there_are(self, sizes: list[int], limit: int) -> None:
        def total(chosen) -> int:  # type: ignore[no-untyped-def]
            return sum(sizes[place] for place in chosen)

        best = max(total(each) for each in subsets(len(sizes)) if total(each) <= limit)
        self.assertEqual(total(fullest_subset(sizes, limit)), best)
        covers = [each for each in subsets(len(sizes)) if total(each) >= limit]
        if covers:
            self.assertEqual(total(smallest_cover(sizes, limit)), min(map(total, covers)))
            fewest = min(len(each) for each in covers)
            chosen, proved = smallest_cover_of(sizes, limit)
            self.assertEqual(len(chosen), fewest)
            self.assertTrue(proved)
            self.assertEqual(total(chosen), min(total(each) for each in covers if len(each) == fewest))

    @given(SIZES, st.integers(0, 300), st.integers(0, 9))
    @settings(max_examples=150, deadline=None)
    def test_at_most_so_many_fill_it_best(self, sizes: list[int], limit: int, count: int) -> None:
        chosen, proved = fullest_of_at_most(sizes, limit, count)
        best = max(
            sum(sizes[p] for p in each) for each in subsets(len(sizes))
            if len(each) <= count and sum(sizes[p] for p in each) <= limit
        )  # fmt: skip
        self.assertTrue(proved and len(set(chosen)) == len(chosen) <= count)
        self.assertEqual(sum(sizes[p] for p in chosen), best)

    @given(SIZES, st.integers(60, 130), st.integers(1, 5))
    @settings(max_examples=150, deadline=None)
    def test_packing_takes_the_fewest_discs(self, sizes: list[int], capacity: int, most: int) -> None:
        packed = pack(sizes, capacity, most_pieces=most)
        self.assertTrue(packed.proved)
        self.assertEqual(sorted(place for disc in packed.discs for place in disc), list(range(len(sizes))))
        for disc in packed.discs:
            self.assertTrue(sum(sizes[place] for place in disc) <= capacity and len(disc) <= most)
        self.assertEqual(len(packed.discs), _fewest_by_force(sizes, capacity, most))

    @given(SIZES, st.integers(60, 150), st.integers(0, 5))
    @settings(max_examples=150, deadline=None)
    def test_runs_in_order(self, sizes: list[int], capacity: int, gap: int) -> None:
        def load(run) -> int:  # type: ignore[no-untyped-def]
            return sum(sizes[place] for place in run) + gap * (len(run) - 1)

        def total(start: int, end: int) -> int:
            return load(range(start, end))

        full, even = (each(len(sizes), total, capacity, most_pieces=99) for each in (full_runs, even_runs))
        for runs in (full, even):
            self.assertEqual([place for run in runs for place in run], list(range(len(sizes))))
        divisions = [
            [range(a, b) for a, b in zip((0, *cuts), (*cuts, len(sizes)), strict=True)]
            for count in range(len(sizes))
            for cuts in combinations(range(1, len(sizes)), count)
        ]
        fitting = [runs for runs in divisions if all(load(run) <= capacity for run in runs)]
        fewest = min(map(len, fitting))
        self.assertEqual((len(full), len(even)), (fewest, fewest))
        flattest = min(max(map(load, runs)) for runs in fitting if len(runs) == fewest)
        self.assertEqual(max(map(load, even)), flattest)
        as_flat = [runs for runs in fitting if len(runs) == fewest and max(map(load, runs)) == flattest]
        self.assertEqual(min(map(load, even)), max(min(map(load, runs)) for runs in as_flat), "the emptiest as full")


def _fewest_by_force(sizes: list[int], capacity: int, most: int) -> int:
    """Dynamic programming over sets: for each set, the fewest discs and the least in the last one."""
    full = 1 << len(sizes)
    whole = [
        mask
        for mask in range(full)
        if sum(s for n, s in enumerate(sizes) if mask >> n & 1) <= capacity and mask.bit_count() <= most
    ]
    best = [0] + [len(sizes)] * (full - 1)
    for mask in range(1, full):
        best[mask] = min(best[mask ^ part] + 1 for part in whole if part and part & mask == part)
    return best[-1]


class OfferTests(TestCase):
    @given(st.lists(st.integers(300, 90_000), min_size=2, max_size=9), st.integers(0, 375))
    @settings(max_examples=100, deadline=None)
    def test_every_offer_fits_and_says_exactly_what_it_takes(self, sectors: list[int], gap: int) -> None:
        layout = layout_of(sectors, gap=gap)
        for offer in removals(layout):
            self.assertLessEqual(offer.total_sectors, layout.medium.capacity_sectors)
            kept = [n for number, n in enumerate(sectors, 1) if number not in offer.removed]
            self.assertEqual(layout_of(kept, gap=gap).total_sectors, offer.total_sectors)
        self.assertLessEqual(bool(removals(layout)), not layout.fits)

    @given(
        st.lists(st.tuples(st.integers(20, 90), st.integers(0, 5), st.booleans(), st.integers(0, 587), st.integers(0, 3)), min_size=2, max_size=7),
        st.integers(0, 9), st.integers(0, 12), st.integers(95, 160),
    )  # fmt: skip
    @settings(max_examples=250, deadline=None)
    def test_odd_discs_are_answered_exactly(
        self, rows: list[tuple[int, int, bool, int, int]], pause: int, hidden: int, capacity: int
    ) -> None:
        """Run-ons, gaps of every length, sound in gaps, hidden sound and a longer first pause: whatever is offered is
        what comes out, and what is called proved is the best there is."""
        medium = Medium(
            key="s", label="small", capacity_sectors=capacity, speeds=(4,), careful_speed=4, safe_speed=4, pitch_um=1.6
        )
        parts = [
            replace(
                programme("x", sectors * 588 + odd), gap_sectors=gap, runs_on=runs_on and bool(number),
                lead=programme("x", lead * 588) if lead and number else None,
            ) for number, (sectors, gap, runs_on, odd, lead) in enumerate(rows)
        ]  # fmt: skip
        before = programme("h", hidden * 588) if hidden else None
        layout = lay_out(parts, gap_sectors=2, medium=medium, first_pause_sectors=150 + pause, hidden=before)

        def alone(positions: Sequence[int], later: bool = False) -> DiscLayout:
            return lay_out(
                taken(parts, positions), gap_sectors=2, medium=medium, hidden=None if later else before,
                first_pause_sectors=150 if later else 150 + pause,
            )  # fmt: skip

        for offer in removals(layout):
            kept = [at for at in range(len(parts)) if at + 1 not in offer.removed]
            self.assertEqual(alone(kept).total_sectors, offer.total_sectors)
            self.assertTrue(kept and alone(kept).fits)
            self.assertEqual(offer.proved, offer.kind in ("fewest", "shortest"))
            fitting = [c for c in subsets(len(parts)) if c and alone(c).fits]
            if offer.kind == "fewest":
                self.assertEqual(len(kept), max(map(len, fitting)))
            if offer.kind == "shortest":
                self.assertEqual(offer.total_sectors, max(alone(c).total_sectors for c in fitting))
        for how in ("even", "fill", "free"):
            division = split(layout, medium, how=how)
            self.assertEqual(sorted(p for disc in division.discs for p in disc), list(range(len(parts))))
            for number, (disc, total) in enumerate(zip(division.discs, division.total_sectors, strict=True)):
                again = alone(disc, later=bool(number))
                self.assertEqual(again.total_sectors, total)
                if all(alone([at], later=at > 0).fits for at in range(len(parts))):
                    self.assertTrue(again.fits, how)

    def test_where_it_runs_over(self) -> None:
        layout = layout_of([100_000, 200_000, 90_000])
        self.assertEqual((layout.runs_over_in.number, layout.runs_over_at), (3, 333_000 - 300_300))

    def test_splits_fit_and_keep_albums_together(self) -> None:
        parts = [programme("x", n * 588) for n in (90_000, 95_000, 99_000, 91_000, 120_000, 150_000)]
        parts = [replace(p, album="AB"[n % 2]) for n, p in enumerate(parts)]
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"))
        for how, keep in (("even", False), ("fill", False), ("free", False), ("free", True)):
            division = split(layout, medium_for("80"), how=how, keep_albums=keep)
            self.assertEqual(sorted(p for disc in division.discs for p in disc), list(range(6)))
            for disc, total in zip(division.discs, division.total_sectors, strict=True):
                again = lay_out([parts[p] for p in disc], gap_sectors=150, medium=medium_for("80"))
                self.assertEqual(again.total_sectors, total)
                self.assertTrue(again.fits)
            if keep:
                self.assertTrue(all(len({parts[p].album for p in disc}) == 1 for disc in division.discs))
            self.assertEqual(len(division.discs), 2 if how == "free" else 3)
            self.assertTrue(division.proved)

    def test_filling_the_rest_is_the_best_there_is(self) -> None:
        layout, pool = layout_of([300_000]), [9_000, 14_000, 11_000, 7_000, 21_000]
        filled = fill_from_pool(layout, pool, gap_sectors=150)
        chosen, free = filled.positions, filled.free_sectors
        best = max(
            sum(pool[p] + 150 for p in each)
            for each in subsets(len(pool))
            if sum(pool[p] + 150 for p in each) <= layout.free_sectors
        )
        self.assertEqual(layout.free_sectors - free, best)
        self.assertEqual(sum(pool[p] + 150 for p in chosen), best)

    def test_five_hundred_tracks_are_answered_and_honest_about_proof(self) -> None:
        sectors = [4_000 + (n * 7919) % 30_000 for n in range(500)]
        layout = lay_out([programme("x", n * 588) for n in sectors], gap_sectors=150, medium=Medium(
            key="w", label="wide", capacity_sectors=5_000_000, speeds=(4,), careful_speed=4, safe_speed=4, pitch_um=1.6,
        ))  # fmt: skip
        for offer in removals(layout):
            self.assertLessEqual(offer.total_sectors, 5_000_000)
        division = split(layout, medium_for("80"), how="free")
        self.assertGreaterEqual(len(division.discs), -(-sum(sectors) // 360_000))
        self.assertTrue(all(total <= 360_000 for total in division.total_sectors))
        self.assertIn("proved" if not division.proved else "no fewer", division.text)
