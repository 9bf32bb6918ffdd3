"""A design laid out: what is shown is what is laid out, and every offer keeps what it says."""

from dataclasses import replace
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.conversion.levelling import Measured
from rumbrel.core.disc import design as designs
from rumbrel.core.disc.design import DiscDesign, DiscKind
from rumbrel.core.inspection import Facts
from rumbrel.core.sound.analysis import ChannelState, Ends, State
from rumbrel.core.sound.level import Level
from rumbrel.core.workflows.design_data import FileToCome, data_offers, plan_data
from rumbrel.core.workflows.design_disc import plan_design
from rumbrel.core.workflows.disc_sounds import Sound
from rumbrel.core.workflows.offer_disc import design_offers
from tests.core.disc.test_design import any_design

_SECOND = 44_100


def sound(samples: int, *, title: str = "Peal", lufs: float = -23.0, lead: int = 0, tail: int = 0) -> Sound:
    """A sound with what measuring would find: so loud, and so much silence at its ends."""
    facts = Facts(
        path=f"/nowhere/{title}.flac", container="flac", codec="flac", lossless=True, sample_rate=_SECOND, bit_depth=16,
        channels=2, samples=samples,
    )  # fmt: skip
    measured = Measured(
        level=Level(integrated_lufs=lufs, range_lu=5.0, true_peak_dbtp=-12.0, sample_peak_dbfs=-12.5),
        block_powers=np.full(40, 10 ** ((lufs + 0.691) / 10)), ends=Ends(leading_samples=lead, trailing_samples=tail),
        state=State(clipped_runs=0, used_bits=16, channels=ChannelState.USUAL, edge=None), samples=samples,
    )  # fmt: skip
    return Sound(facts=facts, title=title, measured=measured)


def sounds_for(design: DiscDesign, minutes: list[int]) -> dict[int, Sound]:
    return {
        track.source_id: sound(
            length * 60 * _SECOND + 7 * track.key, title=f"Peal {track.key}", lead=99_000, tail=_SECOND
        )
        for track, length in zip(design.tracks, minutes, strict=False)
    }


class OfferTests(TestCase):
    @settings(deadline=None, max_examples=40)
    @given(any_design(), st.lists(st.integers(4, 40), min_size=12, max_size=12))
    def test_every_offer_is_laid_out_as_it_says(self, design: DiscDesign, minutes: list[int]) -> None:
        sounds = sounds_for(design, minutes)
        planned = plan_design(replace(design, medium_key="74"), sounds)
        offers = design_offers(planned, sounds)
        self.assertEqual(bool(offers), planned.layout.free_sectors < 0)
        on_disc = {row.design.key for row in planned.rows if row.track}
        for offer in offers:
            layouts = [plan_design(one, sounds).layout for one in offer.designs]
            self.assertEqual(tuple(layout.total_sectors for layout in layouts), offer.total_sectors, offer.text)
            self.assertEqual(offer.fits, all(layout.fits for layout in layouts), offer.text)
            if offer.several:
                kept = [track.key for one in offer.designs for track in one.kept]
                self.assertEqual(sorted(kept), sorted(on_disc), "every track on one disc, none on two")
        self.assertEqual(len({offer.key for offer in offers}), len(offers))
        evenly = next((offer for offer in offers if offer.key == "even"), None)
        filled = next((offer for offer in offers if offer.key == "fill"), None)
        if evenly and filled and evenly.fits and filled.fits:
            self.assertLessEqual(max(evenly.total_sectors), max(filled.total_sectors))

    def test_gaps_ends_and_both_together_by_example(self) -> None:
        """Two tracks of 10 min 32 s and a gap of 2 s on a disc of 21 min: 6 s over, 2 s in the gap, 6.2 s at the ends."""
        design = DiscDesign.of([1, 2], medium_key="21")
        track = sound(632 * _SECOND, lead=2 * _SECOND, tail=_SECOND + 4_410)
        offers = {o.key: o for o in design_offers(plan_design(design, {1: track, 2: track}), {1: track, 2: track})}
        self.assertEqual(
            (offers["trim"].fits, offers["trim"].text), (True, "leave out the silence at the ends: saves 6.2 s")
        )
        self.assertFalse(offers["gaps-0"].fits)
        longer = sound(634 * _SECOND, lead=2 * _SECOND, tail=_SECOND + 4_410)
        offers = {o.key: o for o in design_offers(plan_design(design, {1: longer, 2: longer}), {1: longer, 2: longer})}
        self.assertFalse(
            offers["trim"].fits or any(key.startswith("trim-gaps") for key in offers), "8.2 s are not 10 s"
        )
        middle = sound(round(632.6 * _SECOND), lead=2 * _SECOND, tail=_SECOND + 4_410)
        offers = {o.key: o for o in design_offers(plan_design(design, {1: middle, 2: middle}), {1: middle, 2: middle})}
        both = next(offer for key, offer in offers.items() if key.startswith("trim-gaps-"))
        self.assertTrue(both.fits and not offers["trim"].fits)
        self.assertEqual(both.total_sectors, (94_500,), "the largest gap with which it fits")

    def test_levels_and_joins(self) -> None:
        loud, quiet = sound(60 * _SECOND, title="loud", lufs=-14.0), sound(60 * _SECOND, title="quiet", lufs=-24.0)
        sounds = {1: loud, 2: quiet, 3: quiet}

        def gains(design: DiscDesign) -> list[float]:
            return [round(t.programme.gain_db, 2) for t in plan_design(design, sounds).layout.tracks]

        design = DiscDesign.of([1, 2, 3])
        self.assertEqual(gains(design), [0.0, 0.0, 0.0])
        self.assertEqual(gains(replace(design, level="track")), [-4.0, 6.0, 6.0], "to -18 LUFS each")
        album = gains(replace(design, level="album"))
        self.assertEqual(album, [album[0]] * 3)
        joined = designs.running_on(replace(design, level="track"), [2], True)
        first, second, third = gains(joined)
        self.assertEqual((first, third), (second, 6.0), "no step in a join")

    def test_ends_are_cut_but_not_at_a_join_and_a_silent_track_stays(self) -> None:
        sounds = {
            1: sound(60 * _SECOND, lead=_SECOND, tail=2 * _SECOND), 2: sound(60 * _SECOND, lead=_SECOND, tail=2 * _SECOND),
            3: sound(5 * _SECOND, lead=5 * _SECOND, tail=5 * _SECOND),
        }  # fmt: skip
        design = designs.running_on(DiscDesign.of([1, 2, 3], trims=True), [2], True)
        planned = plan_design(design, sounds)
        self.assertEqual(
            [t.programme.samples for t in planned.layout.tracks], [59 * _SECOND, 58 * _SECOND, 5 * _SECOND]
        )
        self.assertEqual(planned.trim_saves, 3 * 75)
        blind = {**sounds, 2: replace(sounds[2], measured=None)}
        unknown = plan_design(design, blind)
        self.assertEqual((unknown.trim_saves, unknown.unmeasured), (None, 1))

    def test_what_cannot_be_used_stays_in_the_list_and_keeps_it_from_being_written(self) -> None:
        sounds = {1: sound(60 * _SECOND), 2: replace(sound(60 * _SECOND), reason="Its file is gone. Look for it.")}
        planned = plan_design(DiscDesign.of([1, 2, 3]), sounds)
        self.assertEqual(
            [row.reason for row in planned.rows], ["", "Its file is gone. Look for it.", "It left the collection."]
        )
        self.assertEqual([finding.code for finding in planned.findings[:2]], ["unusable", "unusable"])
        self.assertFalse(planned.writable)
        self.assertEqual(plan_design(designs.left_out(DiscDesign.of([1, 2]), [2], True), sounds).keys, (1,))

    def test_a_sound_before_the_first_track_lies_there_or_is_missed(self) -> None:
        sounds = {1: sound(60 * _SECOND), 2: sound(10 * _SECOND)}
        design = DiscDesign.of([1], hidden_id=2)
        layout = plan_design(design, sounds).layout
        self.assertEqual((layout.tracks[0].start_sector, layout.hidden and layout.hidden.samples), (750, 10 * _SECOND))
        gone = plan_design(design, {1: sounds[1]})
        self.assertRegex(gone.failed.text if gone.failed else "", "The sound before track 1 cannot be used: it left")

    def test_marks_stay_where_they_are_heard(self) -> None:
        design = designs.with_marks(DiscDesign.of([1, 2], trims=True), 2, [10 * 75, 20 * 75])
        sounds = {1: sound(60 * _SECOND), 2: sound(60 * _SECOND, lead=2 * _SECOND)}
        track = plan_design(design, sounds).layout.tracks[1]
        self.assertEqual([mark - track.start_sector for mark in track.index_sectors], [8 * 75, 18 * 75])
        whole = plan_design(replace(design, trims=False), sounds).layout.tracks[1]
        self.assertEqual([mark - whole.start_sector for mark in whole.index_sectors], [10 * 75, 20 * 75])


class DataTests(TestCase):
    def files(self, *megabytes: int) -> dict[int, FileToCome]:
        return {
            number: FileToCome(
                title=f"T{number}", performer="", folder=f"album {number % 2}", name=f"t{number}.mp3",
                size_bytes=size * 1_000_000, exact=True,
            )
            for number, size in enumerate(megabytes, 1)
        }  # fmt: skip

    def test_bytes_against_the_blank_and_offers_that_keep_what_they_say(self) -> None:
        """An 80 minute blank holds 360,000 sectors of 2,048 bytes (ECMA-130, from memory): 737.28 MB."""
        files = self.files(300, 300, 100, 60)
        design = DiscDesign.of([1, 2, 3, 4], kind=DiscKind.DATA)
        planned = plan_data(design, files)
        self.assertAlmostEqual(planned.free_sectors * 2048 / 1e6, 737.28 - 760, delta=0.5)
        offers = data_offers(planned, files)
        self.assertEqual(offers[0].text[:21], "leave out track 4: sa")
        for offer in offers:
            totals = tuple(plan_data(one, files).total_sectors for one in offer.designs)
            self.assertEqual(totals, offer.total_sectors, offer.text)
            self.assertEqual(offer.fits, all(plan_data(one, files).fits for one in offer.designs), offer.text)
        self.assertEqual({len(offer.designs) for offer in offers if offer.several}, {2})
        self.assertEqual(data_offers(plan_data(offers[0].designs[0], files), files), ())

    def test_no_file_and_one_too_many(self) -> None:
        files = self.files(1) | {2: replace(self.files(1)[1], reason="The target cannot take it.")}
        planned = plan_data(DiscDesign.of([1, 2, 3], kind=DiscKind.FILES), files)
        self.assertEqual([row.number for row in planned.rows], [1, 0, 0])
        self.assertEqual([finding.verdict for finding in planned.findings[:2]], ["failed", "failed"])
        empty = plan_data(DiscDesign.of([], kind=DiscKind.DATA), {})
        self.assertEqual((empty.writable, empty.findings[0].text), (False, "there are no tracks yet"))
