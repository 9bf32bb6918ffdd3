"""Discs: laid out from kept facts, written and read back; what is said of a write belongs to what was written."""

import io
import json
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.management import call_command
from django.urls import reverse
from django.utils import timezone

from rumbrel.core.errors import Cancelled, DiscError
from rumbrel.web.collection.facts import kept_facts
from rumbrel.web.collection.models import Track, TrackFacts
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.discs.models import Disc
from rumbrel.web.discs.services import plan_layout, start_write
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, recover_jobs, stop_job
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.services import forget_lists, make_playlist, move_entry
from tests.signals import leftovers, write_film, write_sound
from tests.web.case import WebCase


class DiscCase(WebCase):
    def disc(self, *names: str, **values: object) -> Disc:
        """A disc of the named files, or of all that are whole."""
        ids = [Track.objects.get(relative=name).pk for name in names]
        ids = ids or list(Track.objects.filter(whole=True).order_by("relative").values_list("pk", flat=True))
        return Disc.objects.create(playlist=make_playlist(name="Shop", track_ids=ids), **values)

    def write(self, disc: Disc) -> Disc:
        start_write(disc=disc)
        self.work()
        return Disc.objects.select_related("job", "playlist").get(pk=disc.pk)

    def text(self, disc: Disc) -> str:
        return self.page(reverse("discs:disc", args=[disc.pk]))


class WriteTests(DiscCase):
    def test_written_and_read_back(self) -> None:
        self.gather()
        disc = self.write(self.disc(medium_key="74", gap_seconds=0))
        self.assertEqual((disc.state, disc.error), ("written", ""))
        self.assertEqual([v["equal"] for v in disc.verdicts], [True, True])
        self.assertIn("2 tracks identical, sample for sample", disc.job.message)
        page = self.text(disc)
        self.assert_all_in(("every track identical", "Write again"), page)
        self.assertEqual(page.count(">identical<"), 2)
        for kind, status in (("bin", 200), ("cue", 200), ("py", 404), ("../bin", 404)):
            self.assertEqual(self.client.get(f"/discs/{disc.pk}/image/{kind}/").status_code, status, kind)
        self.assertEqual(leftovers(self.folder), [])

    def test_what_is_shown_after_a_change_was_not_written(self) -> None:
        self.gather()
        disc = self.write(self.disc())
        first = disc.playlist.entries.first()
        move_entry(entry=first, step=1)
        move_entry(entry=disc.playlist.entries.get(pk=first.pk), step=1)
        page = self.text(disc)
        self.assertNotIn(">identical<", page)
        self.assert_all_in(("Changed since it was written", "is not on a disc", "(2 tracks)"), page)
        move_entry(entry=disc.playlist.entries.get(pk=first.pk), step=-1)
        move_entry(entry=disc.playlist.entries.get(pk=first.pk), step=-1)
        self.assertIn(">identical<", self.text(disc))
        self.client.post(reverse("discs:change", args=[disc.pk]), {"gap": "3"})
        self.assertIn("Changed since it was written", self.text(disc))

    def test_no_change_while_it_is_written(self) -> None:
        self.gather()
        disc = self.disc()
        start_write(disc=disc)
        page = self.client.post(reverse("discs:change", args=[disc.pk]), {"gap": "0"}, follow=True).content.decode()
        self.assertIn("The disc is being written", page)
        self.assertEqual(Disc.objects.get().gap_seconds, 2)
        self.assertIn("every 1s", self.fragment(reverse("discs:body", args=[disc.pk])))

    def test_a_later_write_that_is_stopped_leaves_what_was_proved(self) -> None:
        self.gather()
        disc = self.write(self.disc())
        start_write(disc=disc)
        with mock.patch("rumbrel.web.discs.services.write_disc.write_plan", side_effect=Cancelled("Stopped.")):
            self.work()
        page = self.text(disc)
        self.assert_all_in(("Stopped. The blank counts as spoiled", "every track identical"), page)
        self.assertEqual(page.count(">identical<"), 2)
        self.assertEqual(self.client.get(reverse("discs:image", args=[disc.pk, "bin"])).status_code, 200)

    def test_its_list_is_deleted_with_it_put_back_and_forgotten(self) -> None:
        self.gather()
        disc = self.write(self.disc())
        folder = settings.RUMBREL.discs / str(disc.pk)
        listed = reverse("playlists:playlist", args=[disc.playlist_id])
        self.assertIn("1 disc laid out from it goes with it, with 1 written image", self.page(listed))
        start_write(disc=disc)
        page = self.client.post(reverse("playlists:delete", args=[disc.playlist_id]), follow=True).content.decode()
        self.assertIn("is being written", page)
        self.work()
        page = self.client.post(reverse("playlists:delete", args=[disc.playlist_id]), follow=True).content.decode()
        self.assert_all_in(("was deleted", "with 1 written image", "Deleted lately", "Put back"), page)
        for address in (listed, reverse("discs:disc", args=[disc.pk]), reverse("discs:image", args=[disc.pk, "bin"])):
            self.assertEqual(self.client.get(address).status_code, 404, address)
        self.assertEqual(forget_lists(), 0)
        self.client.post(reverse("playlists:restore", args=[disc.playlist_id]))
        self.assertEqual(self.text(disc).count(">identical<"), 2)
        self.client.post(reverse("playlists:delete", args=[disc.playlist_id]))
        Playlist.all_lists.update(deleted_at=timezone.now() - timedelta(days=8))
        self.assertTrue(folder.exists())
        self.assertEqual(forget_lists(), 1)
        self.assertEqual((folder.exists(), Disc.objects.count(), Playlist.all_lists.count()), (False, 0, 0))

    def test_a_write_that_is_stopped_or_interrupted_says_so(self) -> None:
        self.gather()
        disc = self.disc()
        start_write(disc=disc)
        self.client.post(reverse("discs:stop", args=[disc.pk]))
        self.work()
        job = Job.objects.get(kind="disc-write")
        self.assertEqual(job.state, "stopped")
        start_write(disc=disc)
        Job.objects.filter(kind="disc-write", state="waiting").update(state="running", heartbeat=None)
        recover_jobs(at_start=True)
        disc.refresh_from_db()
        self.assertEqual(disc.state, "failed")
        self.assertIn("spoiled", disc.error)
        self.assertIn("Start it again", self.text(disc))
        self.assertEqual(self.write(disc).state, "written")

    def test_a_stop_on_the_way_leaves_no_image(self) -> None:
        self.gather()
        disc = self.disc()
        job = start_write(disc=disc)
        told = []

        def note(desk: Desk, progress: object) -> None:
            told.append(progress)
            stop_job(job=job)
            desk.check()

        with mock.patch.object(Desk, "_note", note):
            self.work()
        disc.refresh_from_db()
        self.assertTrue(told)
        self.assertEqual(disc.state, "stopped")
        self.assertEqual([p for p in settings.RUMBREL.discs.rglob("*") if p.is_file()], [])

    def test_what_a_player_refuses_cannot_be_started(self) -> None:
        write_sound(self.source / "short.wav", 44_100)
        self.scan()
        disc = self.disc()
        page = self.client.post(reverse("discs:write", args=[disc.pk]), follow=True).content.decode()
        self.assertIn("players need 4 s", page)
        self.assertEqual(Job.objects.filter(kind="disc-write").count(), 0)
        self.assertIn("disabled", self.text(disc).split('id="write"')[1])


class LayoutTests(DiscCase):
    def test_sources_with_faults_have_their_line_and_keep_the_disc_from_being_written(self) -> None:
        whole = write_sound(self.source / "cut.flac", 400_000).read_bytes()
        (self.source / "cut.flac").write_bytes(whole[: len(whole) // 2])
        for name in ("gone", "good", "better"):
            write_sound(self.source / f"{name}.wav", 400_000)
        self.scan()
        disc = self.disc("cut.flac", "gone.wav", "good.wav")
        (self.source / "gone.wav").unlink()
        self.scan()
        planned = plan_layout(disc=disc)
        self.assertEqual([t.programme.title for t in planned.plan.layout.tracks], ["good"])
        self.assertFalse(planned.writable)
        found = [f.text for f in planned.findings if f.code == "unusable"]
        self.assertEqual(len(found), 2)
        self.assertRegex(found[0], "^cut cannot be used: .*Cut short")
        self.assertRegex(found[1], "^gone cannot be used: .*not there any more.*Or take it off the list")
        self.assert_all_in(("cut cannot be used", "gone cannot be used"), self.text(disc))
        with self.assertRaisesRegex(DiscError, "cut cannot be used"):
            start_write(disc=disc)
        for name in ("cut.flac", "gone.wav"):
            disc.playlist.entries.get(track__relative=name).delete()
        self.assertEqual(self.write(disc).state, "written")

    def test_what_changed_while_the_write_was_waiting_is_refused_with_the_reason(self) -> None:
        self.gather()
        disc = self.disc()
        start_write(disc=disc)
        Track.objects.filter(relative="notice 🔔.wav").update(missing_since=timezone.now())
        self.work()
        disc.refresh_from_db()
        self.assertEqual(disc.state, "failed")
        self.assertIn("notice 🔔 cannot be used", disc.error)

    def test_the_sentence_takes_what_a_medium_has_and_leaves_the_rest(self) -> None:
        self.gather()
        disc = self.disc()
        for values, wanted in (
            ({"medium": "74", "gap": "0", "speed": "24"}, ("74", 0, 24)),
            ({"medium": "21"}, ("21", 0, 16)),
            ({"medium": "moon", "gap": "²", "speed": "٣"}, ("21", 0, 16)),
            ({"gap": "-1", "speed": "1e9"}, ("21", 0, 16)),
            ({"medium": "80", "gap": "5", "speed": "48"}, ("80", 5, 48)),
        ):
            self.client.post(reverse("discs:change", args=[disc.pk]), values)
            disc.refresh_from_db()
            self.assertEqual((disc.medium_key, disc.gap_seconds, disc.speed), wanted, values)
        self.assert_all_in(("24x", "is careful"), self.text(disc))

    def test_a_medium_beyond_the_standard_is_doubtful(self) -> None:
        self.gather()
        self.assertIn("longer than the standard knows", self.text(self.disc(medium_key="90", speed=4)))

    def test_one_that_runs_over_says_where_and_what_would_fit(self) -> None:
        self.gather()
        tracks = Track.objects.filter(usable=True)
        for pk, facts in facts_by_id([t.pk for t in tracks]).items():
            TrackFacts.objects.filter(track_id=pk).update(data=kept_facts(replace(facts, samples=44_100 * 60 * 50)))
        page = self.text(self.disc())
        self.assert_all_in(
            ("over by 20:02:00", "runs over in track 2 at 29:58:00", "leave out track", "saves 50 min 2 s"), page
        )
        self.assertIn("disabled", page.split('id="write"')[1])


class SameAsCommandTests(DiscCase):
    def test_web_and_command_write_the_same_disc(self) -> None:
        write_film(self.source / "late.mkv", seconds=6, sound_late_seconds=0.5)
        write_sound(self.source / "a.flac", 250_000)
        write_sound(self.source / "b.wav", 300_000, channels=1, rate=48_000)
        self.scan()
        names = ("b.wav", "late.mkv", "a.flac")
        disc = self.write(self.disc(*names, gap_seconds=3))
        self.assertEqual(disc.state, "written", disc.error)
        out, said = self.folder / "by-command", io.StringIO()
        paths = [str(self.source / name) for name in names]
        call_command("disc", "--json", "--out", str(out), "--name", "Shop", "--gap", "3", *paths, stdout=said)
        record = json.loads(said.getvalue())
        ours = Path(disc.image_path)
        for suffix in ("bin", "cue", "cdt", "sub", "digests"):
            self.assertEqual(ours.with_suffix(f".{suffix}").read_bytes(), (out / f"Shop.{suffix}").read_bytes(), suffix)
        self.assertEqual(disc.written["tracks"], record["tracks"])
