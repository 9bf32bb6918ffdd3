"""Discs: laid out from kept facts, written and read back; what is said of a write belongs to what was written."""

import contextlib
import hashlib
import io
import json
import zipfile
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.conf import settings
from django.core.management import CommandError, call_command
from django.test import SimpleTestCase
from django.urls import reverse
from django.utils import timezone
from hypothesis import example, given
from hypothesis import settings as example_settings
from hypothesis import strategies as st

from rumbrel.core.disc import media
from rumbrel.core.disc.design import running_on
from rumbrel.core.disc.layout import Programme, lay_out
from rumbrel.core.disc.red_book import format_msf
from rumbrel.core.errors import Cancelled, DiscError
from rumbrel.core.records import as_record
from rumbrel.core.sound.decoding import StreamChoice
from rumbrel.core.tags import TagSet, write_tags
from rumbrel.web.collection.facts import kept_facts
from rumbrel.web.collection.models import Track, TrackFacts
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.discs.models import Disc, Recorder
from rumbrel.web.discs.rows import geometry, written_to_mm
from rumbrel.web.discs.services import lay_out_list, plan_layout, put_in, start_write, take_out
from rumbrel.web.discs.services.write_disc import _Stage
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import recover_jobs
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.services import forget_lists, make_playlist
from rumbrel.web.ui.templatetags.ruler import groove
from tests.signals import leftovers, music, write_film, write_sound
from tests.web.case import WebCase


class GrooveTests(SimpleTestCase):
    def test_it_is_written_from_the_inside_out_while_the_tracks_are(self) -> None:
        choice = StreamChoice(container="wav", depth_bits=16)
        ten_minutes = Programme(
            path="x", choice=choice, title="", performer="", samples=44_100 * 600, sample_rate=44_100
        )
        layout = lay_out([ten_minutes, ten_minutes], gap_sectors=0, medium=media.medium_for("80"))
        lies, steps = (
            geometry(layout, [1, 2]),
            {"making ready": (0.0, 0.2), "writing": (0.2, 0.6), "reading back": (0.6, 1.0)},
        )
        first, second = lies.rings
        self.assertEqual(first[0], 25.0, "the programme area begins at a diameter of 50 mm (from memory)")
        for share, millimetres in ((0.0, 25.0), (0.2, 25.0), (0.4, first[1]), (0.6, second[1]), (0.9, second[1])):
            with self.subTest(share=share):
                reached = written_to_mm(layout, share, steps)
                self.assertAlmostEqual(reached, millimetres, places=3)
                done = groove(lies.rings, lies.edge_mm, reached)["done"]
                self.assertEqual(len(done), sum(ring[0] < reached for ring in lies.rings))
        self.assertEqual(groove(lies.rings, lies.edge_mm)["done"], [])


class DiscCase(WebCase):
    def disc(self, *names: str, **values: object) -> Disc:
        """A disc of the named files, or of all that are whole, with a blank for it in the recorder."""
        ids = [Track.objects.get(relative=name).pk for name in names]
        ids = ids or list(Track.objects.filter(whole=True).order_by("relative").values_list("pk", flat=True))
        disc = lay_out_list(playlist=make_playlist(name="Shop", track_ids=ids))
        design = replace(disc.design, **values)  # type: ignore[arg-type]
        disc.plan = as_record(design)
        disc.save()
        put_in(recorder=disc.recorder_key, shelf_key=design.medium_key)
        return disc

    def write(self, disc: Disc, **values: object) -> Disc:
        start_write(disc=disc, **values)  # type: ignore[arg-type]
        self.work()
        return self.fresh(disc)

    def fresh(self, disc: Disc) -> Disc:
        return Disc.objects.select_related("job", "playlist", "measuring").get(pk=disc.pk)

    def text(self, disc: Disc) -> str:
        return self.page(reverse("discs:disc", args=[disc.pk]))

    def writing(self, disc: Disc) -> str:
        return self.page(reverse("discs:writing", args=[disc.pk]))

    def act(self, disc: Disc, name: str, **values: object) -> str:
        """A change as the screen sends it; the disc as it is then."""
        address = reverse("discs:act", args=[disc.pk, name])
        response = self.client.post(address, values, headers={"HX-Request": "true"})
        self.assertEqual(response.status_code, 200)
        return response.content.decode()


class WriteTests(DiscCase):
    def test_an_empty_tray_takes_the_blank_that_the_press_names(self) -> None:
        self.gather()
        disc = self.disc(medium_key="74")
        take_out(recorder=disc.recorder_key)
        self.assertIn("a 74 minute blank from the shelf goes in", self.writing(disc))
        values = {"blank": "74", "seen": self.fresh(disc).mark, "copies": "1"}
        self.client.post(reverse("discs:write", args=[disc.pk]), values)
        self.work()
        self.assertTrue(self.fresh(disc).proved, self.fresh(disc).error)

    def test_a_real_pace_is_waited_for(self) -> None:
        self.gather()
        disc = self.disc(medium_key="74")
        address = reverse("discs:choose", args=[disc.pk])
        self.client.post(address, {"recorder": disc.recorder_key, "speed": "8", "pace": "real"})
        self.assertTrue(Recorder.objects.get(key=disc.recorder_key).real_pace)
        with mock.patch("rumbrel.web.discs.services.tray.time.sleep") as sleep:
            disc = self.write(disc)
        self.assertEqual(disc.state, "written", disc.error)
        waited = sum(call.args[0] for call in sleep.call_args_list)
        # What is read back takes its time as well, which a real recorder's own figure leaves out.
        self.assertGreater(waited, disc.simulated_seconds)

    def test_written_and_read_back(self) -> None:
        self.gather()
        disc = self.write(self.disc(medium_key="74", gap_sectors=0))
        self.assertEqual((disc.state, disc.error), ("written", ""))
        self.assertEqual([v["equal"] for v in disc.verdicts], [True, True])
        self.assertIn("Read back: the disc is identical", disc.job.message)
        self.assert_all_in(("written</span> and read back", "This layout is on the disc"), self.text(disc))
        page = self.writing(disc)
        self.assert_all_in(
            ("the disc is identical", "Write again on a new blank", "empty", "Instructions for a real recorder"), page
        )
        self.assertEqual(page.count(">identical<"), 2)
        for kind, status in (("bin", 200), ("cue", 200), ("sub", 200), ("iso", 404), ("py", 404), ("../bin", 404)):
            self.assertEqual(self.client.get(f"/discs/{disc.pk}/image/{kind}/").status_code, status, kind)
        self.assertEqual(leftovers(self.folder), [])

    def test_what_can_be_had_of_a_written_disc(self) -> None:
        self.gather()
        disc = self.write(self.disc("a/peal <b>.flac", "notice 🔔.wav"))
        image = Path(disc.image_path).read_bytes()
        sheet = self.client.get(reverse("discs:sheet", args=[disc.pk])).content.decode()
        self.assert_all_in(("2 tracks, 0:13:44", "disc at once", "peal <b>", "8x is careful"), sheet)
        self.assertIn(hashlib.blake2b(image[: 426 * 2352], digest_size=32).hexdigest(), sheet)
        raw = b"".join(self.client.get(reverse("discs:archive", args=[disc.pk])).streaming_content)
        names = zipfile.ZipFile(io.BytesIO(raw)).namelist()
        self.assertEqual(sorted(Path(name).suffix for name in names), [".bin", ".cdt", ".cue", ".digests", ".sub"])
        heard = b"".join(self.client.get(reverse("discs:played", args=[disc.pk, 2])).streaming_content)
        sound, rate = soundfile.read(io.BytesIO(heard), dtype="int16")
        self.assertEqual(
            (rate, sound.tobytes()), (44_100, image[-len(sound.tobytes()) :]), "the player plays what lies there"
        )
        part = self.client.get(reverse("discs:played", args=[disc.pk, 1]), headers={"Range": "bytes=44-1043"})
        self.assertEqual((part.status_code, part.content), (206, image[:1000]))
        self.assertEqual(self.client.get(reverse("discs:played", args=[disc.pk, 3])).status_code, 409)
        for kind in ("wav", "flac"):
            self.client.post(reverse("discs:make-form", args=[disc.pk, kind]))
        self.assertEqual([job.state for job in self.work()], ["done", "done"])
        flac, _ = soundfile.read(next(settings.RUMBREL.discs.rglob("*.flac")), dtype="int16")
        self.assertEqual(flac.tobytes(), image, "the same disc in another form")
        self.act(disc, "gap", gap="3")
        self.client.post(reverse("discs:make-form", args=[disc.pk, "wav"]))
        self.assertIn("changed since it was written", self.work()[0].error)

    def test_what_is_shown_after_a_change_was_not_written(self) -> None:
        self.gather()
        disc = self.write(self.disc())
        first, second = (track.key for track in disc.design.tracks)
        page = self.act(disc, "move", keys=second, before=first)
        self.assert_all_in(("changed</span> since it was written", "What is shown is not on a disc yet"), page)
        self.assertNotIn(">identical<", page)
        self.assertIn("Changed since it was written", self.writing(disc))
        self.assertIn(">identical<", self.act(disc, "move", keys=first, before=second))
        self.assertIn("changed</span> since", self.act(disc, "sentence", dither="shaped"))
        self.assertIn(">identical<", self.act(disc, "sentence", dither="flat"))
        self.assertIn("changed</span> since", self.act(disc, "gap", gap="3"))

    def test_no_change_while_it_is_written(self) -> None:
        self.gather()
        disc = self.disc()
        start_write(disc=disc)
        self.assertIn("The disc is being written", self.act(disc, "gap", gap="0"))
        self.assertEqual(Disc.objects.get().design.gap_sectors, 150)
        self.assertIn("every 1s", self.fragment(reverse("discs:stage", args=[disc.pk])))
        with self.assertRaisesRegex(DiscError, "The recorder is writing Shop"):
            put_in(recorder="quick", shelf_key="80")

    def test_a_later_write_that_is_stopped_leaves_what_was_proved(self) -> None:
        self.gather()
        disc = self.write(self.disc())
        put_in(recorder="quick", shelf_key="80")
        start_write(disc=disc)
        with mock.patch("rumbrel.web.discs.services.write_disc.write_plan", side_effect=Cancelled("Stopped.")):
            self.work()
        page = self.writing(disc)
        self.assert_all_in(("Stopped. The blank is still blank.", "the disc is identical"), page)
        self.assertEqual(page.count(">identical<"), 2)
        self.assertEqual(self.client.get(reverse("discs:image", args=[disc.pk, "bin"])).status_code, 200)

    def test_its_list_is_deleted_with_it_put_back_and_forgotten(self) -> None:
        self.gather()
        disc = self.write(self.disc())
        folder = settings.RUMBREL.discs / str(disc.pk)
        listed = reverse("playlists:playlist", args=[disc.playlist_id])
        self.assertIn("1 disc laid out from it goes with it, with 1 written image", self.page(listed))
        put_in(recorder="quick", shelf_key="80")
        start_write(disc=disc)
        page = self.client.post(reverse("playlists:delete", args=[disc.playlist_id]), follow=True).content.decode()
        self.assertIn("is being written", page)
        self.work()
        page = self.client.post(reverse("playlists:delete", args=[disc.playlist_id]), follow=True).content.decode()
        self.assert_all_in(("was deleted", "with 1 written image", "Recently deleted", "Undo"), page)
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
        for step, fate, said in (("making ready", "blank", "still blank"), ("writing", "spoiled", "is spoiled")):
            put_in(recorder="quick", shelf_key="80")
            start_write(disc=disc)
            Disc.objects.update(stage={"step": step})
            Job.objects.filter(kind="disc-write", state="waiting").update(state="running", heartbeat=None)
            recover_jobs(at_start=True)
            self.assertEqual(self.fresh(disc).state, "failed")
            self.assertEqual(Recorder.objects.get().blank_state, fate)
            self.assert_all_in((said, "Start it again"), self.writing(disc))
        self.assertIn("Put in another 80 minute blank", self.writing(disc))
        with self.assertRaisesRegex(DiscError, "is spoiled. Put in a blank one"):
            start_write(disc=disc)
        put_in(recorder="quick", shelf_key="80")
        self.assertEqual(self.write(disc).state, "written")

    def test_a_stop_or_an_open_tray_on_the_way_leaves_no_image(self) -> None:
        self.gather()
        for way, state in (("stop", "stopped"), ("tray", "failed")):
            disc = self.disc()
            start_write(disc=disc)
            told = []

            def noted(stage, progress, way=way, told=told, as_it_is=_Stage._noted):  # type: ignore[no-untyped-def]
                """As the user does it while the laser is on."""
                told.append(progress.step)
                if progress.step == "writing" and told.count("writing") == 1:
                    self.client.post(
                        reverse("discs:stop", args=[stage._disc.pk]) if way == "stop"
                        else reverse("discs:tray", args=[stage._disc.pk, "open"])
                    )  # fmt: skip
                as_it_is(stage, progress)
                stage._desk.check()

            with mock.patch.object(_Stage, "_noted", noted):
                self.work()
            disc = self.fresh(disc)
            self.assertEqual((disc.state, Recorder.objects.get().blank_state), (state, "spoiled"), way)
            self.assertEqual([p for p in settings.RUMBREL.discs.rglob("*") if p.is_file()], [])
            self.assertIn("leave the tray closed" if way == "tray" else "The blank is spoiled", self.writing(disc))

    def test_a_test_write_leaves_the_blank_and_a_bad_one_fails_above_its_speed(self) -> None:
        self.gather()
        disc = self.disc(speed=24)
        self.client.post(reverse("discs:test", args=[disc.pk]))
        self.work()
        self.assertEqual((Recorder.objects.get().blank_state, self.fresh(disc).state), ("blank", "laid out"))
        self.assertIn("The test write at 24x went well", self.writing(disc))
        put_in(recorder="quick", shelf_key="80-weak")
        disc = self.write(disc)
        self.assertEqual((disc.state, Recorder.objects.get().blank_state), ("failed", "spoiled"))
        page = self.writing(disc)
        self.assert_all_in(
            ("Not read back as written: track 2 at", "Write slower: 8x is careful.", "blank of another batch"), page
        )
        self.assertLess(page.index("Put in another"), page.index("Write slower"), "what to try, in order")
        self.client.post(reverse("discs:choose", args=[disc.pk]), {"recorder": "quick", "speed": "8"})
        put_in(recorder="quick", shelf_key="80-weak")
        disc = self.write(disc)
        self.assertEqual((disc.state, disc.design.speed), ("written", 8))

    def test_the_tray_says_what_it_holds_and_what_it_refuses(self) -> None:
        self.gather()
        disc = self.disc()
        for name, shelf, wanted in (
            ("take-out", "", ("empty", "The tray is empty: an 80 minute blank from the shelf goes in")),
            ("put-in", "80-written", ("80 minute disc that is written already, written", "Put in a blank one")),
            ("put-in", "74", ("74 minute blank, blank", "the disc is laid out for an 80 minute blank")),
            ("put-in", "80rw-written", ("rewritable that is written already, written", "Erase it, or put in another")),
            ("erase", "", ("rewritable that is written already, blank", "The disc in the tray has room for it")),
            ("put-in", "moon", ("blank", "There is no such disc on the shelf")),
            ("open", "", ("blank", "The recorder does not write now")),
        ):
            self.client.post(reverse("discs:tray", args=[disc.pk, name]), {"shelf": shelf})
            self.assert_all_in(wanted, self.writing(disc))
        self.client.post(reverse("discs:choose", args=[disc.pk]), {"recorder": "old", "speed": "8"})
        page = self.writing(disc)
        self.assertNotIn("Test write", page)
        self.client.post(reverse("discs:choose", args=[disc.pk]), {"recorder": "moon"})
        self.assertIn("There is no recorder", self.writing(disc))

    def test_copies_ask_for_a_blank_each(self) -> None:
        self.gather()
        disc = self.disc()
        self.client.post(reverse("discs:write", args=[disc.pk]), {"copies": "2"})
        self.work()
        self.assert_all_in(("1 copy written and read back, 1 to go", "disabled"), self.writing(disc))
        put_in(recorder="quick", shelf_key="80")
        self.client.post(reverse("discs:write", args=[disc.pk]), {"copies": "1"})
        self.work()
        self.assertEqual((self.fresh(disc).copies_left, self.fresh(disc).state), (0, "written"))
        page = self.client.post(reverse("discs:write", args=[disc.pk]), {"copies": "0"}, follow=True).content.decode()
        self.assertIn("From 1 to 99 copies", page)

    def test_what_a_player_refuses_cannot_be_started(self) -> None:
        write_sound(self.source / "short.wav", 44_100)
        self.scan()
        disc = self.disc()
        page = self.client.post(reverse("discs:write", args=[disc.pk]), follow=True).content.decode()
        self.assertIn("players need 4 s", page)
        self.assertEqual(Job.objects.filter(kind="disc-write").count(), 0)
        self.assert_all_in(("disabled", "Fix the failed checks"), self.writing(disc))


class LayoutTests(DiscCase):
    def test_a_track_that_is_too_short_plays_in_the_gap_before_the_next(self) -> None:
        first, short, last = (music(samples, seed=seed) for samples, seed in ((220_500, 1), (66_150, 2), (264_600, 3)))
        for name, sound in (("a", first), ("b", short), ("c", last)):
            soundfile.write(self.source / f"{name}.wav", sound, 44_100, "PCM_16")
        self.scan()
        disc = self.disc("a.wav", "b.wav", "c.wav", gap_sectors=75)
        page = self.text(disc)
        self.assertIn("track 2 plays in the gap before track 3, c", page)
        key = disc.design.tracks[1].key
        self.act(disc, "into-gap", key=key, start=0, samples=len(short))
        disc = self.fresh(disc)
        layout = plan_layout(disc=disc).audio.layout
        self.assertEqual([track.programme.title for track in layout.tracks], ["a", "c"])
        self.assertEqual(layout.tracks[1].lead_sectors, 112, "1.5 s, cut in the sector in which the track begins")
        self.assertEqual(self.write(disc).state, "written")
        sound = np.frombuffer(Path(self.fresh(disc).image_path).read_bytes(), "<i2").reshape(-1, 2)
        wanted, _ = soundfile.read(self.source / "b.wav", dtype="int16")
        start = (layout.tracks[1].start_sector - 112) * 588
        self.assertTrue(np.array_equal(sound[start : start + len(short)], wanted))
        self.assertIn(
            "No track comes after it", self.act(disc, "into-gap", key=disc.design.tracks[1].key, start=0, samples=9)
        )

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
        self.assertEqual([t.programme.title for t in planned.audio.layout.tracks], ["good"])
        self.assertFalse(planned.writable)
        found = [f.text for f in planned.findings if f.code == "unusable"]
        self.assertEqual(len(found), 2)
        self.assertRegex(found[0], "^cut cannot be used: cut short")
        self.assertRegex(found[1], "^gone cannot be used: its file is no longer there.*Or leave it out")
        self.assert_all_in(("cut cannot be used", "gone cannot be used"), self.text(disc))
        with self.assertRaisesRegex(DiscError, "cut cannot be used"):
            start_write(disc=disc)
        page = self.act(disc, "leave", keys=" ".join(str(track.key) for track in disc.design.tracks[:2]), out="on")
        self.assertEqual(page.count('id="back-'), 2, "they stay in the list")
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

    def test_the_sentence_takes_what_there_is_and_leaves_the_rest(self) -> None:
        self.gather()
        disc = self.disc(speed=24)
        for values, wanted in (
            ({"medium": "74", "gap": "0"}, ("74", 0, 24)),
            ({"medium": "21"}, ("21", 0, 16)),
            ({"medium": "moon"}, ("21", 0, 16)),
            ({"gap": "inf"}, ("21", 0, 16)),
            ({"gap": "-1"}, ("21", 0, 16)),
            ({"gap": "61"}, ("21", 0, 16)),
            ({"medium": "80", "gap": "0:02:37"}, ("80", 187, 16)),
        ):
            self.act(disc, "sentence", **values)
            design = self.fresh(disc).design
            self.assertEqual((design.medium_key, design.gap_sectors, design.speed), wanted, values)

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
            ("over by 20 min 2 s", "100:02:00 of 80:00:00 (m:s:f), from track 2 at 29:58:00", "Leave out track 1", "Shop 1",
             "2 discs in order", "2.0 s", "not enough"), page
        )  # fmt: skip


class SameAsCommandTests(DiscCase):
    def test_a_recording_in_two_files_is_levelled_alike_by_both_ways(self) -> None:
        whole = music(600_000) * np.linspace(1, 0.3, 600_000)[:, None]
        for number, (a, b) in enumerate(((0, 300_017), (300_017, 600_000)), 1):
            path = write_sound(self.source / f"{number}.flac", sound=whole[a:b])
            write_tags(
                path, TagSet(fields={"album": ("One",), "title": (f"Part {number}",)}), container="flac", codec="flac"
            )
        self.scan()
        disc = self.disc("1.flac", "2.flac", level="track")
        design = disc.design
        joined = tuple(replace(track, runs_on=at > 0) for at, track in enumerate(design.tracks))
        disc.plan = as_record(replace(design, tracks=joined))
        disc.save(update_fields=["plan"])
        self.client.post(reverse("discs:measure", args=[disc.pk]))
        self.work()
        disc = self.write(disc)
        self.assertEqual(disc.state, "written", disc.error)
        out, said = self.folder / "by-command", io.StringIO()
        paths = [str(self.source / f"{n}.flac") for n in (1, 2)]
        call_command(
            "disc", "--json", "--out", str(out), "--name", "Shop", "--join", "run-on", "--level", "track", *paths, stdout=said
        )  # fmt: skip
        self.assertEqual(disc.written["tracks"], json.loads(said.getvalue())["tracks"])
        for suffix in ("bin", "cue", "cdt", "sub", "digests"):
            self.assertEqual(
                Path(disc.image_path).with_suffix(f".{suffix}").read_bytes(), (out / f"Shop.{suffix}").read_bytes(), suffix
            )  # fmt: skip

    def test_web_and_command_write_the_same_disc(self) -> None:
        write_film(self.source / "late.mkv", seconds=6, sound_late_seconds=0.5)
        write_sound(self.source / "a.flac", 250_000)
        write_sound(self.source / "b.wav", 300_000, channels=1, rate=48_000)
        self.scan()
        names = ("b.wav", "late.mkv", "a.flac")
        disc = self.write(self.disc(*names, gap_sectors=225))
        self.assertEqual(disc.state, "written", disc.error)
        out, said = self.folder / "by-command", io.StringIO()
        paths = [str(self.source / name) for name in names]
        call_command("disc", "--json", "--out", str(out), "--name", "Shop", "--gap", "3", *paths, stdout=said)
        record = json.loads(said.getvalue())
        ours = Path(disc.image_path)
        for suffix in ("bin", "cue", "cdt", "sub", "digests"):
            self.assertEqual(ours.with_suffix(f".{suffix}").read_bytes(), (out / f"Shop.{suffix}").read_bytes(), suffix)
        self.assertEqual(disc.written["tracks"], record["tracks"])

    def test_both_ways_in_give_one_plan_whatever_is_asked(self) -> None:
        """Equal tracks, checks and offers, for discs with and without room; and equal bytes of one that was written."""
        whole = music(600_000) * np.linspace(1, 0.3, 600_000)[:, None]
        quiet = np.concatenate([np.zeros((30_000, 2)), music(200_000, seed=4) * 0.2, np.zeros((44_100, 2))])
        sounds = (
            ("1.flac", whole[:300_017], "1", "One"),
            ("2.flac", whole[300_017:], "2", "One"),
            ("3.flac", quiet, "3", "One"),
        )
        for name, sound, number, album in sounds:
            path = write_sound(self.source / name, sound=sound)
            fields = {"album": (album,), "title": (f"Part {number}",), "artist": ("Ringers",), "track": (number,)}
            write_tags(path, TagSet(fields=fields), container="flac", codec="flac")
        write_sound(self.source / "4.wav", 300_000, channels=1, rate=48_000)
        self.scan()
        paths = [str(self.source / name) for name in ("1.flac", "2.flac", "3.flac", "4.wav")]
        base = self.disc("1.flac", "2.flac", "3.flac", "4.wav")
        self.client.post(reverse("discs:measure", args=[base.pk]))
        self.work()
        small = tuple(replace(each, capacity_sectors=1_500) if each.key == "74" else each for each in media.MEDIA)

        @example(medium="80", gap=150, level="track", own=None, trims=True, joins=True, rule="all", pause=150)
        @given(
            medium=st.sampled_from(("74", "80")), gap=st.integers(0, 250), level=st.sampled_from(("none", "track", "album")),
            own=st.none() | st.lists(st.integers(0, 300), min_size=4, max_size=4), trims=st.booleans(),
            joins=st.booleans(), rule=st.sampled_from(("all", "titles", "none")), pause=st.integers(150, 400),
        )  # fmt: skip
        @example_settings(max_examples=6, deadline=None, database=None, derandomize=True)
        def check(
            medium: str, gap: int, level: str, own: list[int] | None, trims: bool, joins: bool, rule: str, pause: int
        ) -> None:
            design = replace(
                base.design, medium_key=medium, gap_sectors=gap, level=level, trims=trims, cd_text=rule,
                first_pause_sectors=pause,
            )  # fmt: skip
            words = ["--medium", medium, "--gap", str(gap / 75), "--level", level, "--cd-text", rule,
                     "--first-pause", str(pause / 75), *(["--trim"] if trims else [])]  # fmt: skip
            if own is not None:
                tracks = zip(design.tracks, own, strict=True)
                design = replace(design, tracks=tuple(replace(track, gap_sectors=each) for track, each in tracks))
                words += ["--gaps", ",".join(format_msf(each) for each in own)]
            if joins:
                rows = plan_layout(disc=base, design=design).audio.rows
                design = running_on(design, [row.design.key for row in rows if row.joins], True)
                words += ["--join", "run-on"]
            planned = plan_layout(disc=base, design=design)
            said = io.StringIO()
            with contextlib.suppress(CommandError, SystemExit):
                call_command("disc", "--json", "--dry-run", "--out", str(self.folder / "o"), "--name", "Shop", *words, *paths,
                             stdout=said)  # fmt: skip
            record = json.loads(said.getvalue())
            layout = planned.audio.layout
            self.assertEqual(layout.as_record()["tracks"], record["tracks"], words)
            self.assertEqual([each.as_record() for each in planned.findings], record["checklist"], words)
            offers = [each.as_record() for each in planned.offers()]
            self.assertEqual((offers, layout.fits), (record.get("offers", []), record["fits"]), words)
            seen.add((layout.fits, bool(offers), any(track["runs_on"] for track in record["tracks"])))

        seen: set[tuple[bool, bool, bool]] = set()
        with mock.patch.object(media, "MEDIA", small):
            check()
        self.assertTrue({fits for fits, _, _ in seen} == {joined for _, _, joined in seen} == {True, False}, seen)
