"""What plays where: groups of equal facts stand as each track does alone."""

from collections import Counter

from django.urls import reverse

from rumbrel.core.targets import FitKind, all_targets, find_target, fit_to
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import facts_by_id, pulled_ids
from rumbrel.web.collection.services import clear_pulls
from rumbrel.web.targets.queries import all_in_kinds, pulled_in_kinds
from rumbrel.web.targets.standing import FIT_KINDS, bitrate_class, bitrate_limits, reason_groups, standings
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
            for standing in standings(kinds, all_targets(), marks=160):
                alone = Counter(fit_to(each, standing.target).kind for each in ordered)
                self.assertEqual(standing.counts, tuple(alone[kind] for kind in FIT_KINDS), standing.target.slug)
        found = standings(pulled_in_kinds(), [find_target("pocket-aac")], marks=160)[0]
        self.assertEqual(found.marks, tuple(fit_to(each, found.target).kind for each in ordered))
        self.assertIn(FitKind.REWRAP, found.marks)

    def test_equal_files_are_judged_once_and_faulty_ones_each(self) -> None:
        kinds = pulled_in_kinds()
        self.assertEqual(len(kinds.order), 11)
        self.assertEqual(len(kinds.facts), 9, "three equal WAVs are one kind")

    def test_reasons_hold_the_tracks_that_have_them_alone(self) -> None:
        target, facts = find_target("pocket-aac"), facts_by_id(pulled_ids())
        alone: dict[tuple[FitKind, str], list[int]] = {}
        for pk in pulled_ids():
            fit = fit_to(facts[pk], target)
            alone.setdefault((fit.kind, fit.reason), []).append(pk)
        groups = reason_groups(pulled_in_kinds(), target)
        self.assertEqual({(group.kind, group.reason): list(group.ids) for group in groups}, alone)
        self.assertEqual([group.kind for group in groups], sorted((g.kind for g in groups), key=FIT_KINDS.index))
        for group in groups:
            seconds = sum(facts[pk].duration_seconds for pk in group.ids)
            self.assertAlmostEqual(group.seconds, seconds)
        found = standings(pulled_in_kinds(), [target], marks=9)[0]
        for kind, seconds in zip(FIT_KINDS, found.seconds, strict=True):
            self.assertAlmostEqual(seconds, sum(group.seconds for group in groups if group.kind is kind))

    def test_from_each_number_the_tracks_are_shown_pulled_and_taken_off(self) -> None:
        groups = reason_groups(pulled_in_kinds(), find_target("pocket-aac"))
        waves = next(group for group in groups if Track.objects.get(relative="0.wav").pk in group.ids)
        self.assertIs(waves.kind, FitKind.CONVERT)
        address = f"{reverse('targets:where')}?target=pocket-aac"
        page = self.page(address)
        self.assert_all_in((f"why={waves.key}", "Take off 7 tracks", "Track by track"), page)
        query = f"target=pocket-aac&fit=convert&why={waves.key}"
        self.assertIn("7 tracks of these", self.page(f"{reverse('targets:where')}?{query}"))
        page = self.client.post(f"{reverse('targets:pull-group')}?{query}", {"back": address}, follow=True)
        self.assertIn("7 tracks taken off.", page.content.decode())
        self.assertEqual(len(pulled_ids()), 4)
        # An old page's press is about tracks that are no longer there, not about all the others.
        again = self.client.post(f"{reverse('targets:pull-group')}?{query}", follow=True).content.decode()
        self.assertIn("0 tracks taken off.", again)
        self.assertEqual(len(pulled_ids()), 4)
        self.assertIn(
            "7 tracks restored", self.client.post(reverse("collection:undo-clear"), follow=True).content.decode()
        )
        clear_pulls()
        query = f"{query}&tracks=shown&format=WAV&order=length"
        page = self.page(f"{reverse('targets:where')}?{query}")
        self.assert_all_in(("what the collection shows", "Pull 3 tracks"), page)
        self.client.post(f"{reverse('targets:pull-group')}?{query}")
        self.assertEqual([Track.objects.get(pk=pk).relative for pk in pulled_ids()], ["2.wav", "1.wav", "0.wav"])
        self.assertIn(
            "0 tracks pulled.",
            self.client.post(f"{reverse('targets:pull-group')}?{query}", follow=True).content.decode(),
        )
        clear_pulls()
        none = self.client.post(f"{reverse('targets:pull-group')}?target=pocket-aac", follow=True).content.decode()
        self.assertIn("0 tracks taken off.", none)
        nowhere = self.client.post(reverse("targets:pull-group"), follow=True).content.decode()
        self.assertIn("Choose a target", nowhere)

    @slow
    def test_many_tracks_share_marks_by_majority(self) -> None:
        standing = standings(pulled_in_kinds(), [find_target("disc-wav")], marks=3)[0]
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
