"""Every change of a disc's design leaves the rest as it was, and none makes what no disc has."""

from dataclasses import replace
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from rumbrel.core.disc import design as designs
from rumbrel.core.disc.design import DiscDesign
from rumbrel.core.errors import DiscError
from rumbrel.core.records import as_record, from_record


def made(count: int, **values: object) -> DiscDesign:
    return DiscDesign.of([100 + number for number in range(count)], **values)


@st.composite
def any_design(draw: st.DrawFn) -> DiscDesign:
    """Some tracks, some of them with gaps of their own, joined, left out."""
    design = made(draw(st.integers(1, 12)), gap_sectors=draw(st.integers(0, 300)))
    for track in design.tracks[1:]:
        match draw(st.sampled_from(("", "", "gap", "join", "out"))):
            case "gap":
                design = designs.with_gap(design, draw(st.integers(0, 4_500)), track.key)
            case "join":
                design = designs.running_on(design, [track.key], True)
            case "out":
                design = designs.left_out(design, [track.key], True)
    return design


class DesignTests(TestCase):
    @given(any_design(), st.data())
    def test_whoever_is_moved_every_track_stays_and_joins_only_between_the_same_two(
        self, design: DiscDesign, data: st.DataObject
    ) -> None:
        keys = [track.key for track in design.tracks]
        chosen = data.draw(st.lists(st.sampled_from(keys), unique=True))
        after = designs.moved(design, chosen, data.draw(st.sampled_from([None, *keys])))
        self.assertEqual(sorted(track.key for track in after.tracks), sorted(keys))
        self.assertEqual({t.key: (t.source_id, t.gap_sectors, t.left_out) for t in after.tracks},
                         {t.key: (t.source_id, t.gap_sectors, t.left_out) for t in design.tracks})  # fmt: skip
        before = {b.key: a.key for a, b in zip(design.tracks, design.tracks[1:], strict=False)}
        joined = {track.key for track in design.tracks if track.runs_on}
        for earlier, later in zip(after.tracks, after.tracks[1:], strict=False):
            self.assertEqual(later.runs_on, later.key in joined and before.get(later.key) == earlier.key)
        self.assertFalse(after.tracks[0].runs_on)

    @given(any_design())
    def test_a_record_gives_the_design_again(self, design: DiscDesign) -> None:
        self.assertEqual(from_record(DiscDesign, as_record(design)), design)

    @given(any_design(), st.integers(0, 600))
    def test_gaps_of_at_most_shorten_and_never_lengthen(self, design: DiscDesign, most: int) -> None:
        after = designs.gaps_of_at_most(design, most)
        self.assertLessEqual(after.gap_sectors, min(most, design.gap_sectors))
        for old, new in zip(design.tracks, after.tracks, strict=True):
            self.assertEqual(new.gap_sectors, old.gap_sectors and min(old.gap_sectors, most))

    def test_what_is_divided_is_there_once_and_what_comes_first_stays_with_the_first(self) -> None:
        design = designs.left_out(made(6, hidden_id=9, first_pause_sectors=300), [3], True)
        design = designs.running_on(design, [6], True)
        one, two = designs.divided(design, [[1, 2], [4, 5, 6]])
        self.assertEqual([track.key for track in one.tracks], [1, 2, 3])
        self.assertEqual([(track.key, track.runs_on) for track in two.tracks], [(4, False), (5, False), (6, True)])
        self.assertEqual(
            (one.hidden_id, one.first_pause_sectors, two.hidden_id, two.first_pause_sectors), (9, 300, None, 150)
        )

    def test_gaps_joins_and_leaving_out_by_example(self) -> None:
        design = designs.with_gap(made(3), 225, 2)
        self.assertEqual([track.gap_sectors for track in design.tracks], [None, 225, None])
        self.assertEqual(
            designs.with_gap(design, 150, 2).tracks[1].gap_sectors, None, "the disc's own gap is no own one"
        )
        self.assertEqual([track.gap_sectors for track in designs.with_gap(design, 0).tracks], [None] * 3)
        self.assertEqual(designs.with_gap(design, 300, 1).first_pause_sectors, 300)
        joined = designs.running_on(design, [2, 3], True)
        self.assertFalse(designs.with_gap(joined, 75, 3).tracks[2].runs_on, "a gap is no running on")
        out = designs.left_out(joined, [2], True)
        self.assertEqual([track.runs_on for track in out.tracks], [False, True, False], "nothing is before the third")
        self.assertEqual([track.key for track in out.kept], [1, 3])
        self.assertEqual([track.key for track in designs.added(designs.without(out, [3]), [7, 7]).tracks], [1, 2, 3, 4])

    def test_what_no_disc_has_is_refused_in_words(self) -> None:
        design = made(2)
        for change, words in (
            (lambda: designs.with_gap(design, -1), "lasts 0 to 60 s"),
            (lambda: designs.with_gap(design, 4_501, 2), "lasts 0 to 60 s, not 60.0133 s"),
            (lambda: designs.with_gap(design, 149, 1), "the standard wants 2 s"),
            (lambda: designs.running_on(design, [1], True), "none before it"),
            (lambda: designs.moved(design, [9], None), "no longer on this disc"),
            (lambda: designs.moved(design, [1], 9), "no longer on this disc"),
            (lambda: designs.left_out(design, [9], True), "no longer on this disc"),
            (lambda: designs.with_texts(design, {"title": "x" * 501}), "501 characters; 500"),
            (lambda: designs.with_texts(design, {"colour": "red"}), "no text 'colour'"),
            (lambda: designs.with_texts(design, {"isrc": "nonsense"}, 1), "is not an ISRC"),
            (lambda: designs.with_texts(design, {"product_code": "2904173000524"}), "check digit is 3"),
            (lambda: designs.with_marks(design, 1, [0]), "behind its beginning"),
            (lambda: designs.with_marks(design, 1, range(1, 100)), "at most 98 marks"),
        ):
            with self.assertRaisesRegex(DiscError, words):
                change()
        self.assertEqual(designs.with_gap(design, 4_500).gap_sectors, 4_500)
        coded = designs.with_texts(design, {"isrc": "xa-qct-26-00001", "title": " A \n bell "}, 1)
        self.assertEqual(coded.track(1).texts, {"isrc": "XAQCT2600001", "title": "A bell"})
        self.assertEqual(
            designs.with_texts(design, {"product_code": "290417300052 3"}).texts["product_code"], "2904173000523"
        )
        self.assertEqual(designs.with_marks(design, 1, [75, 30, 75]).track(1).index_sectors, (30, 75))
        self.assertEqual(replace(design), design)
