"""What plays where: groups of equal facts stand as each track does alone."""

from collections import Counter

from django.urls import reverse

from rumbrel.core.targets import FitKind, all_targets, find_target, fit_to
from rumbrel.web.collection.queries import facts_by_id, pulled_ids
from rumbrel.web.targets.queries import all_in_kinds, pulled_in_kinds
from rumbrel.web.targets.standing import FIT_KINDS, bitrate_class, bitrate_limits, standings
from tests.marks import slow
from tests.signals import music, write_film, write_framed, write_sound
from tests.web.case import WebCase


class WhereTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        write_film(self.source / "film.mp4", seconds=3)
        write_film(self.source / "late.mkv", seconds=3, sound_late_seconds=0.5)
        for number in range(3):
            write_sound(self.source / f"{number}.wav", 130_000 + number, seed=number + 1)
        write_sound(self.source / "short.flac", sound=music(60_000))
        for name, codec, muxer in (
            ("a.mp3", "libmp3lame", "mp3"),
            ("b.m4a", "aac", "mp4"),
            ("c.opus", "libopus", "ogg"),
        ):
            write_framed(self.source / name, codec, muxer=muxer, rate=48_000, seconds=3)
        (self.source / "named.mp3").write_bytes((self.source / "short.flac").read_bytes())
        (self.source / "empty.mp3").touch()
        self.scan()
        self.pull_all()

    @slow
    def test_every_target_stands_as_every_track_alone(self) -> None:
        facts = facts_by_id(pulled_ids())
        ordered = [facts[pk] for pk in pulled_ids()]
        for kinds in (pulled_in_kinds(), all_in_kinds()):
            for standing in standings(*kinds, all_targets(), marks=160):
                alone = Counter(fit_to(each, standing.target).kind for each in ordered)
                self.assertEqual(standing.counts, tuple(alone[kind] for kind in FIT_KINDS), standing.target.slug)
        found = standings(*pulled_in_kinds(), [find_target("pocket-aac")], marks=160)[0]
        self.assertEqual(found.marks, tuple(fit_to(each, found.target).kind for each in ordered))
        self.assertIn(FitKind.REWRAP, found.marks)

    def test_equal_files_are_judged_once_and_faulty_ones_each(self) -> None:
        kinds, order = pulled_in_kinds()
        self.assertEqual(len(order), 11)
        self.assertEqual(len(kinds), 9, "three equal WAVs are one kind")

    @slow
    def test_many_tracks_share_marks_by_majority(self) -> None:
        facts, order = pulled_in_kinds()
        standing = standings(facts, order, [find_target("disc-wav")], marks=3)[0]
        self.assertEqual(len(standing.marks), 3)
        self.assertEqual(standing.total, 11)

    def test_a_class_of_bitrates_ends_at_every_limit_of_a_target(self) -> None:
        limits = bitrate_limits(all_targets())
        for limit in limits:
            classes = [bitrate_class(round(limit) + step, limits) for step in (-1, 0, 1)]
            self.assertGreaterEqual(len(set(classes)), 2, limit)
        self.assertEqual(bitrate_class(round(limits[0]) + 2, limits), bitrate_class(round(limits[0]) + 3, limits))

    def test_the_matrix_and_one_target_in_words(self) -> None:
        page = self.page(reverse("targets:where"))
        self.assertEqual(page.count("fit-strip"), len(all_targets()))
        self.assertIn("Each track, in the order of pulling", page)
        self.assertIn("All tracks, in no order", self.page(reverse("targets:where"), tracks="all"))
        page = self.page(reverse("targets:where"), target="pocket-aac")
        self.assert_all_in(("re-wrap", "takes sound without pictures", "the phone takes M4A only"), page)
        page = self.page(reverse("targets:where"), target="archive-flac")
        self.assertIn("accepts as it is", page)
        unknown = self.page(reverse("targets:where"), target="<script>").split("<main")[1]
        self.assertNotIn("<script>", unknown)
        self.assertEqual(unknown.count("fit-strip"), len(all_targets()))

    def test_the_catalogue_says_what_each_accepts_and_makes(self) -> None:
        page = self.page(reverse("targets:index"))
        self.assertEqual(page.count("<tr data-row"), len(all_targets()))
        self.assert_all_in(("MP3, 44.1 kHz, exactly 128 kbit/s", "high-pass 10 Hz", "MP3 320 kbit/s"), page)
