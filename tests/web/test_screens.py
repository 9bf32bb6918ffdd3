"""Screens over the engine in depth: fits, levels and re-wrapping in batches, discs of films, every message."""

from pathlib import Path

import numpy as np
from django.urls import reverse

from rumbrel.core.forecast import WhenPresent
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.level import LevelMeter
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.targets import all_targets, find_target
from rumbrel.web.batches import services as batches
from rumbrel.web.batches.models import Item
from rumbrel.web.collection import services as collection
from rumbrel.web.collection.models import Pull, Scan, Track
from rumbrel.web.discs import services as discs
from rumbrel.web.discs.models import Disc
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.targets.services import standings
from tests.signals import decoded, music, write_film, write_sound
from tests.web.test_pages import WebCase


class ScreenCase(WebCase):
    def gather(self) -> None:
        """A film whose sound begins late, a loud and a soft file, and a file with a wrong name."""
        write_film(self.source / "late.mkv", seconds=6, sound_late_seconds=0.5)
        write_film(self.source / "film.mp4", seconds=5)
        write_sound(self.source / "soft.wav", sound=music(44_100 * 5) * 0.1)
        write_sound(self.source / "loud.wav", sound=music(44_100 * 5) * 1.2)
        (self.source / "named.mp3").write_bytes(write_sound(self.source / "x.flac", 250_000).read_bytes())
        collection.add_folder(str(self.source))
        collection.run_scan(Scan.objects.get().pk)
        self.pull_all()

    def run_batch(self, target: str):  # type: ignore[no-untyped-def]
        batch = batches.start(collection.pulled_tracks(), find_target(target), WhenPresent.SKIP)
        for pk in batch.items.filter(state="waiting").values_list("pk", flat=True):
            batches.run_item(pk)
        return batch


class FitTests(ScreenCase):
    def test_every_target_against_every_pulled_track(self) -> None:
        self.gather()
        rows = standings(collection.pulled_tracks())
        self.assertEqual(len(rows), len(all_targets()))
        self.assertTrue(all(sum(row.counts) == Track.objects.count() for row in rows))
        page = self.client.get(reverse("where")).content.decode()
        self.assertEqual(page.count("fit-strip"), len(all_targets()))
        pocket = next(row for row in rows if row.target.slug == "pocket-aac")
        self.assertEqual(pocket.counts[1], 1, "the film's sound is re-wrapped")
        page = self.client.get(reverse("where"), {"target": "pocket-aac"}).content.decode()
        for words in ("re-wrap", "takes sound without pictures", "the player takes M4A only"):
            self.assertIn(words, page)
        unknown = self.client.get(reverse("where"), {"target": "<script>"}).content.decode()
        self.assertNotIn("<script>", unknown.split("<main")[1].split("</main")[0])

    def test_the_side_panel_tells_faults_and_fits(self) -> None:
        self.gather()
        track = Track.objects.get(relative="named.mp3")
        page = self.client.get(reverse("track", args=[track.pk])).content.decode()
        self.assertIn("holds FLAC", page)
        self.assertIn("250,000 samples", page)
        self.assertEqual(page.count('class="verdict'), len(all_targets()))


class BatchTests(ScreenCase):
    def test_re_wrapping_keeps_the_coded_sound(self) -> None:
        self.gather()
        self.run_batch("pocket-aac")
        item = Item.objects.get(source__endswith="film.mp4")
        self.assertEqual((item.action, item.state, item.checked), ("rewrap", "done", True))
        np.testing.assert_array_equal(decoded(Path(item.output)), decoded(self.source / "film.mp4"))

    def test_a_target_that_sets_the_level_sets_it(self) -> None:
        self.gather()
        self.run_batch("course")
        for name in ("soft.wav", "loud.wav"):
            item = Item.objects.get(source__endswith=name)
            self.assertEqual(item.state, "done", item.error)
            self.assertTrue(
                item.output.endswith(".mp3"), "a file that would play is made anew, since its level changes"
            )
            meter = LevelMeter(SoundShape(sample_rate=44_100, channels=1, depth_bits=0))
            meter.push(decoded(Path(item.output)) / 2**31)
            self.assertAlmostEqual(meter.level().integrated_lufs, -19, delta=0.5)

    def test_a_late_film_keeps_its_place_in_a_batch(self) -> None:
        self.gather()
        self.run_batch("disc-wav")
        item = Item.objects.get(source__endswith="late.mkv")
        self.assertEqual(item.state, "done", item.error)
        facts = inspect_file(Path(item.output))
        self.assertEqual(facts.samples, round(Track.objects.get(relative="late.mkv").samples * 44_100 / 48_000))

    def test_the_forecast_shows_what_happens_and_warns(self) -> None:
        self.gather()
        page = self.client.get(reverse("forecast"), {"target": "radio-mp3"}).content.decode()
        for words in ("Lossy to lossy", "the programme", "convert"):
            self.assertIn(words, page)


class DiscTests(ScreenCase):
    def _disc(self, **choices: str) -> Disc:
        self.client.post(reverse("make-playlist"), {"name": "Shop"})
        self.client.post(reverse("lay-out", args=[Playlist.objects.get().pk]))
        disc = Disc.objects.get()
        self.client.post(reverse("change-disc", args=[disc.pk]), {"medium": "80", "gap": "2", "speed": "8", **choices})
        disc.refresh_from_db()
        return disc

    def test_a_late_film_lies_on_a_disc_whole(self) -> None:
        self.gather()
        disc = self._disc()
        discs.start_write(disc)
        discs.run_write(disc.pk)
        disc.refresh_from_db()
        self.assertEqual(disc.state, "written", disc.error)
        track = Track.objects.get(relative="late.mkv")
        self.assertEqual(track.lead_samples, 24_000)

    def test_a_speed_above_the_safe_one_is_advised_against(self) -> None:
        self.gather()
        page = self.client.get(reverse("disc", args=[self._disc(speed="48").pk])).content.decode()
        self.assertIn("24x", page)
        self.assertIn("is careful", page)

    def test_a_medium_beyond_the_standard_is_doubtful(self) -> None:
        self.gather()
        page = self.client.get(reverse("disc", args=[self._disc(medium="90", speed="4").pk])).content.decode()
        self.assertIn("longer than the standard knows", page)

    def test_what_a_player_refuses_cannot_be_started(self) -> None:
        write_sound(self.source / "short.wav", 44_100)
        collection.add_folder(str(self.source))
        collection.run_scan(Scan.objects.get().pk)
        Pull.objects.create(track=Track.objects.get())
        disc = self._disc()
        page = self.client.post(reverse("write-disc", args=[disc.pk]), follow=True).content.decode()
        self.assertIn("players need 0:04:00", page)
        disc.refresh_from_db()
        self.assertEqual(disc.state, "laid out")
