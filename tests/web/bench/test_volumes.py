"""Sticks and cards: foreseen to the cluster, delivered, taken out in the middle, put right, formatted; nothing is lost unseen."""

import hashlib
import shutil
from dataclasses import replace
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.urls import reverse

from rumbrel.core.delivery.onto_volume import put_on_volume
from rumbrel.core.files import file_digest
from rumbrel.core.inspection import inspect_file
from rumbrel.core.playlists import read_list
from rumbrel.core.targets import all_targets
from rumbrel.web.bench.models import Delivery, VolumeRow
from rumbrel.web.bench.services import plug_volume, stand_in_volumes, volume_of
from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.services import make_playlist
from tests.signals import leftovers, write_sound
from tests.web.case import WebCase


class VolumeCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.rows = {row.key: row for row in stand_in_volumes()}
        self.stick = self.rows["stick-2gb"]
        self.root = settings.RUMBREL.volumes / "stick-2gb"

    def sounds(self) -> list[int]:
        """Three tracks, one of which the car plays as it is; pulled."""
        write_sound(self.source / "Tower" / "Peal.flac", 120_000, seed=1)
        write_sound(self.source / "Tower" / "Slack <b>tide.mp3", 100_000, subtype="MPEG_LAYER_III", seed=2)
        write_sound(self.source / "Watch.wav", 90_000, seed=3)
        self.scan()
        return self.pull_all()

    def make(self, row: VolumeRow | None = None, *, what: str = "pulled", **more: str) -> Delivery:
        row = row or self.stick
        self.client.post(reverse("bench:make-delivery", args=[row.pk]), {"what": what, **more})
        self.work()
        return Delivery.objects.latest("pk")

    def press(self, name: str, pk: int, /, **values: object) -> str:
        return self.client.post(reverse(f"bench:{name}", args=[pk]), values, follow=True).content.decode()

    def carried_out(self, delivery: Delivery) -> Job:
        self.press("start-delivery", delivery.pk)
        (job, *_) = [job for job in self.work() if job.kind == "deliver"]
        self.work()
        return job

    def on_stick(self) -> set[str]:
        return {path.relative_to(self.root).as_posix() for path in self.root.rglob("*") if path.is_file()}

    def states(self, delivery: Delivery) -> list[tuple[str, str]]:
        return list(delivery.items.values_list("fate", "state"))


class DeliverTests(VolumeCase):
    def test_what_was_foreseen_is_what_is_done_and_a_second_one_finds_it_there(self) -> None:
        self.sounds()
        delivery = self.make()
        page = self.page(reverse("bench:delivery", args=[delivery.pk]))
        self.assert_all_in(("<b>2</b> made first", "<b>1</b> copied", "Slack (b)tide.mp3", 'data-begun="no"'), page)
        self.assertNotIn("<b>tide", page)
        self.assertEqual(self.on_stick(), set(), "nothing before the user says so")
        before = volume_of(self.stick).free_bytes
        job = self.carried_out(delivery)
        self.assertEqual(job.state, "done", job.error)
        self.assertIn("3 tracks brought to Tour bus and compared there. It is safe to remove.", job.message)
        taken = before - volume_of(self.stick).free_bytes
        self.assertTrue(0 < taken <= delivery.foreseen["needed_bytes"])
        self.assertEqual(len(self.on_stick()), 3)
        for item in delivery.items.all():
            self.assertEqual(item.digest, file_digest(self.root / item.output))
            self.assertEqual(inspect_file(self.root / item.output).codec, "mp3")
        self.assertIn("is safe to remove", self.fragment(reverse("bench:delivery-state", args=[delivery.pk])))
        again = self.make()
        self.assertEqual({fate for fate, _ in self.states(again)}, {"there already"})
        self.assertEqual(again.foreseen["needed_bytes"], 0)
        self.assertEqual(leftovers(settings.RUMBREL.volumes), [])

    def test_taken_out_in_the_middle_it_goes_on_when_it_is_back(self) -> None:
        self.sounds()
        delivery = self.make()

        def pulled_out(*args: object, **more: object) -> object:
            result = put_on_volume(*args, **more)  # type: ignore[arg-type]
            if self.stick.plugged:
                plug_volume(row=self.stick, plugged=False)
            return result

        with mock.patch("rumbrel.core.workflows.deliver.put_on_volume", pulled_out):
            job = self.carried_out(delivery)
        self.assertEqual(job.state, "failed")
        self.assertIn("taken out after 1 of 3 tracks", job.error)
        self.assertEqual([state for _, state in self.states(delivery)], ["done", "waiting", "waiting"])
        self.assertIn("taken out in the middle of", self.page(reverse("bench:index")))
        self.assertIn("Plug in", self.page(reverse("bench:volume", args=[self.stick.pk])))
        self.assertIn("continues", self.press("plug", self.stick.pk))
        (job,) = [job for job in self.work() if job.kind == "deliver"]
        self.assertEqual(job.state, "done", job.error)
        self.assertEqual([state for _, state in self.states(delivery)], ["done"] * 3)
        self.assertEqual((len(self.on_stick()), leftovers(self.root)), (3, []))

    def test_what_does_not_fit_is_offered_to_be_left_out(self) -> None:
        self.sounds()
        row = self.rows["stick-full"]
        root = settings.RUMBREL.volumes / "stick-full"
        volume_of(row)
        with next(root.iterdir()).open("r+b") as file:
            file.truncate(256_000_000 - 100_000)
        delivery = self.make(row)
        self.assertFalse(delivery.foreseen["fits"])
        page = self.page(reverse("bench:delivery", args=[delivery.pk]))
        self.assert_all_in(("It does not fit", "no fewer will do", "no less will do"), page)
        self.assertNotIn("delivery-act", page)
        self.assertIn("It does not fit", self.press("start-delivery", delivery.pk))
        self.press("leave-out", delivery.pk, offer="fewest")
        self.work()
        delivery.refresh_from_db()
        self.assertTrue(delivery.foreseen["fits"])
        self.assertEqual(len(delivery.left_out) + delivery.items.count(), 3)
        self.assertIn(
            "Nothing would be left",
            self.press("leave-out", delivery.pk, number=[n for (n,) in delivery.items.values_list("number")]),
        )
        self.press("take-back", delivery.pk)
        self.work()
        self.assertEqual(delivery.items.count(), 3)

    def test_mirroring_shows_what_goes_and_nothing_else_ever_goes(self) -> None:
        self.sounds()
        volume_of(self.stick)
        old = write_sound(self.root / "Old" / "gone.mp3", subtype="MPEG_LAYER_III")
        (self.root / "letter.txt").write_text("keep me")
        delivery = self.make(rest="mirror")
        self.assertIn("Old/gone.mp3", self.page(reverse("bench:delivery", args=[delivery.pk])))
        shutil.copy(old, self.root / "newer.mp3")
        job = self.carried_out(delivery)
        self.assertIn("changed after the forecast", job.error)
        self.assertEqual(self.on_stick(), {"Old/gone.mp3", "newer.mp3", "letter.txt"})
        delivery.refresh_from_db()
        self.assertEqual(set(delivery.foreseen["unwanted"]), {"Old/gone.mp3", "newer.mp3"})
        self.assertEqual(self.carried_out(delivery).state, "done")
        self.assertEqual(len(self.on_stick()), 4)
        self.assertIn("letter.txt", self.on_stick())

    def test_a_playlist_becomes_a_list_with_paths_from_where_it_lies(self) -> None:
        ids = self.sounds()
        playlist = make_playlist(name="Tour: day/one", track_ids=[ids[2], ids[0], ids[2]])
        delivery = self.make(what=f"playlist:{playlist.pk}", names="numbered")
        self.assertEqual(delivery.items.count(), 2, "a track that stands twice in a list is one file")
        self.assertEqual(self.carried_out(delivery).state, "done")
        (path,) = self.root.glob("*.m3u8")
        self.assertEqual(path.name, "Tour- day-one.m3u8")
        names = [entry.written for entry in read_list(path).entries]
        self.assertEqual(names, ["001 Watch.mp3", "002 Peal.mp3", "001 Watch.mp3"])
        folders = make_playlist(name="Rounds", track_ids=[ids[2], ids[0], ids[2]])
        VolumeRow.objects.filter(pk=self.stick.pk).update(target_slug="card-folders")
        delivery = self.make(what=f"playlist:{folders.pk}")
        self.assertEqual(
            list(delivery.items.values_list("output", flat=True)),
            ["Rounds/001 Watch.wav", "Rounds/002 Peal.mp3", "Rounds/003 Watch.wav"],
        )

    def test_nothing_to_deliver_and_what_is_gone_is_said(self) -> None:
        for what in ("pulled", "playlist:99", "batch:99", "moon"):
            self.client.post(reverse("bench:make-delivery", args=[self.stick.pk]), {"what": what})
        self.assertEqual(Delivery.objects.count(), 0)
        self.sounds()
        self.press("plug", self.stick.pk)
        delivery = self.make()
        self.assertIn("Plug it in", Job.objects.get(pk=delivery.job_id).error)


class VolumePageTests(VolumeCase):
    def test_an_old_stick_is_put_right(self) -> None:
        volume_of(self.stick)
        write_sound(self.root / "Bells" / "Peal.flac", 60_000)
        write_sound(self.root / "Bells" / "Tide.mp3", 50_000, subtype="MPEG_LAYER_III")
        (self.root / "list.pls").write_text("[playlist]\nFile1=Bells/Peal.flac\nNumberOfEntries=1\n")
        address = reverse("bench:volume", args=[self.stick.pk])
        self.assertIn("2 sound files are not read yet", self.page(address))
        self.assertEqual(Job.objects.count(), 0, "a page starts no work")
        self.press("look-volume", self.stick.pk)
        self.work()
        page = self.page(address)
        self.assert_all_in(("<b>1</b> does not play", "the car takes MP3 only", "list.pls", ">Repair</button>"), page)
        self.assertNotIn("Tide.mp3", self.page(address, only="refused").split('id="played"')[1])
        self.press("put-right", self.stick.pk)
        self.work()
        delivery = Delivery.objects.latest("pk")
        self.assertEqual(self.states(delivery), [("made first", "waiting")])
        self.assertEqual(self.carried_out(delivery).state, "done")
        self.assertEqual(self.on_stick(), {"Bells/Peal.mp3", "Bells/Tide.mp3", "list.pls"})
        self.assertIn("Bells/Peal.mp3", (self.root / "list.pls").read_text())
        self.assertNotIn("do not play", self.page(address))
        self.assertIn("Every track on it plays", self.press("put-right", self.stick.pk))

    def test_the_player_is_shown_its_own_limits(self) -> None:
        loft = self.rows["stick-64gb"]
        page = self.page(reverse("bench:volume", args=[loft.pk]))
        self.assert_all_in(("NTFS; the car reads FAT32", "Format it with FAT32", "it plays none of this"), page)
        self.assertIn("the car does not read NTFS", self.page(reverse("bench:index")))

    def test_formatting_loses_only_what_was_shown(self) -> None:
        volume_of(self.stick)
        (self.root / "a.mp3").write_bytes(b"1")
        address = reverse("bench:format", args=[self.stick.pk])
        page = self.page(address)
        self.assert_all_in(("1 file", "a.mp3", "cannot be undone"), page)
        mark = page.split('name="lost" value="')[1].split('"')[0]
        (self.root / "b.mp3").write_bytes(b"2")
        values = {"file_system": "exfat", "name": "New", "lost": mark}
        self.assertIn("The contents of the volume changed", self.press("format-anew", self.stick.pk, **values))
        self.assertEqual(self.on_stick(), {"a.mp3", "b.mp3"})
        values["lost"] = self.page(address).split('name="lost" value="')[1].split('"')[0]
        self.assertIn("Formatted; 2 files", self.press("format-anew", self.stick.pk, **values))
        self.stick.refresh_from_db()
        self.assertEqual((self.on_stick(), self.stick.file_system, self.stick.name), (set(), "exfat", "New"))

    def test_a_real_folder_is_a_volume_only_where_it_may_be(self) -> None:
        stick = self.source / "mounted"
        stick.mkdir()
        for path, said in (
            ("/etc", "may only write below"),
            (str(self.source / "no"), "is not there"),
            ("x", "whole path"),
        ):
            text = self.client.post(reverse("bench:add-volume"), {"path": path, "target": "car-mp3"}, follow=True)
            self.assertIn(said, text.content.decode())
        self.client.post(reverse("bench:add-volume"), {"path": str(stick), "target": "car-mp3", "name": "Mine"})
        row = VolumeRow.objects.get(path=str(stick))
        self.sounds()
        delivery = self.make(row)
        self.assertEqual(self.carried_out(delivery).state, "done")
        self.assertEqual(len(list(stick.rglob("*.mp3"))), 3)
        mark = self.page(reverse("bench:format", args=[row.pk])).split('name="lost" value="')[1].split('"')[0]
        self.assertIn("Only stand-ins", self.press("format-anew", row.pk, file_system="fat32", lost=mark))
        VolumeRow.objects.filter(pk=row.pk).update(mount_point="/media/gone")
        self.assertIn("nothing is mounted at /media/gone", self.page(reverse("bench:volume", args=[row.pk])))
        self.assertIn("plugged in and out by hand", self.press("plug", row.pk))
        self.press("remove-volume", row.pk)
        self.assertEqual(len(list(stick.rglob("*.mp3"))), 3, "its files stay")

    def test_names_and_players(self) -> None:
        self.press("change-volume", self.stick.pk, name="<i>Bus</i>", target="television")
        page = self.page(reverse("bench:volume", args=[self.stick.pk]))
        self.assertIn("&lt;i&gt;Bus&lt;/i&gt;", page)
        self.assertIn("Playing order in the television", page)
        self.assertIn("choose a player", self.press("change-volume", self.stick.pk, name="x", target="moon"))
        self.assertTrue(Path(self.root).is_dir())


class OrderTests(VolumeCase):
    """What a delivery says of the order is what a reader of the directory then finds."""

    def sounds(self) -> list[int]:
        for seed, name in enumerate(("Peal", "Tide", "Watch"), 1):
            write_sound(self.source / f"{name}.flac", 60_000 + seed, seed=seed)
        self.scan()
        return self.pull_all()

    def played(self) -> list[str]:
        """Files of the one folder as they were named last: a reader of our own."""
        files = sorted(self.root.rglob("*.mp3"), key=lambda path: path.lstat().st_ctime_ns)
        return [path.relative_to(self.root).as_posix() for path in files]

    def test_another_order_is_made_and_what_else_lies_there_is_counted(self) -> None:
        ids = self.sounds()
        first = make_playlist(name="First", track_ids=ids)
        self.carried_out(self.make(what=f"playlist:{first.pk}"))
        there = self.played()
        self.assertEqual(len(there), 3)
        again = make_playlist(name="Again", track_ids=[ids[2], ids[0]])
        delivery = self.make(what=f"playlist:{again.pk}")
        wanted = [item.output for item in delivery.items.all()]
        self.assertEqual({fate for fate, _ in self.states(delivery)}, {"there already"})
        self.assertEqual([item.plays_as for item in delivery.items.all()], [2, 3])
        page = self.page(reverse("bench:delivery", args=[delivery.pk]))
        self.assert_all_in(("1 entry is moved on the volume", "1 file from earlier deliveries is not part"), page)
        job = self.carried_out(delivery)
        self.assertIn("1 entry moved for the order, which was read again. It is safe to remove.", job.message)
        self.assertEqual(self.played()[1:], wanted)
        self.assertEqual([self.played().index(item.output) + 1 for item in delivery.items.all()], [2, 3])

    def test_a_player_that_goes_by_names_is_said_not_to_play_the_order(self) -> None:
        ids = self.sounds()
        by_names = next(target for target in all_targets() if target.player.order == "names")
        VolumeRow.objects.filter(pk=self.stick.pk).update(target_slug=by_names.slug)
        self.stick.refresh_from_db()
        playlist = make_playlist(name="Turned", track_ids=[ids[2], ids[1], ids[0]])
        delivery = self.make(what=f"playlist:{playlist.pk}")
        self.assertIn("Number the names to keep the order", self.page(reverse("bench:delivery", args=[delivery.pk])))
        numbered = self.make(what=f"playlist:{playlist.pk}", names="numbered")
        self.assertEqual(numbered.foreseen["order_said"], "")

    def test_numbered_tracks_in_another_order_are_renamed_and_do_not_double(self) -> None:
        ids = self.sounds()
        first = make_playlist(name="First", track_ids=ids)
        self.carried_out(self.make(what=f"playlist:{first.pk}", names="numbered"))
        kept = {path.lstat().st_ino for path in self.root.glob("*.mp3")}
        again = make_playlist(name="Again", track_ids=[ids[2], ids[0]])
        delivery = self.make(what=f"playlist:{again.pk}", names="numbered")
        self.assertEqual(len(delivery.foreseen["left_over"]), 3)
        self.press("choose-delivery", delivery.pk, earlier="tidy")
        self.work()
        delivery.refresh_from_db()
        self.assertEqual({fate for fate, _ in self.states(delivery)}, {"renamed there"})
        self.assertEqual(delivery.foreseen["needed_bytes"], 4096, "the list itself")
        self.assertEqual(len(delivery.foreseen["unwanted"]), 1)
        job = self.carried_out(delivery)
        self.assertIn("0 tracks brought to Tour bus and compared there, 2 renamed there", job.message)
        self.assertEqual(self.played(), [item.output for item in delivery.items.all()])
        self.assertLessEqual({path.lstat().st_ino for path in self.root.glob("*.mp3")}, kept)


class OriginalTests(VolumeCase):
    def repaired(self, *presses: str) -> Delivery:
        self.press("look-volume", self.stick.pk)
        self.work()
        self.press("put-right", self.stick.pk)
        self.work()
        delivery = Delivery.objects.latest("pk")
        for press in presses:
            self.press("choose-delivery", delivery.pk, originals=press)
            self.work()
            delivery.refresh_from_db()
        return delivery

    def test_a_lossless_file_that_is_nowhere_else_is_set_aside(self) -> None:
        volume_of(self.stick)
        only = write_sound(self.root / "Only.flac", 60_000, seed=5)
        digest = file_digest(only)
        write_sound(self.root / "Peal.flac", 120_000, seed=1)
        self.sounds()
        place = settings.RUMBREL.results / "Set aside from volumes" / str(self.stick) / "Only.flac"
        place.parent.mkdir(parents=True)
        place.write_bytes(b"of another stick of that name")
        delivery = self.repaired()
        page = self.page(reverse("bench:delivery", args=[delivery.pk]))
        self.assertIn("Only (2).flac", page)
        self.assert_all_in(("1 lossless file is not in the collection", "has its sound in Tower/Peal.flac"), page)
        self.assertEqual(self.carried_out(delivery).state, "done")
        self.assertEqual(self.on_stick(), {"Only.mp3", "Peal.mp3"})
        self.assertEqual(place.read_bytes(), b"of another stick of that name")
        self.assertEqual(file_digest(place.with_name("Only (2).flac")), digest)

    def test_where_something_else_took_the_place_meanwhile_the_original_stays(self) -> None:
        volume_of(self.stick)
        only = write_sound(self.root / "Only.flac", 60_000, seed=5)
        delivery = self.repaired()
        place = settings.RUMBREL.results / "Set aside from volumes" / str(self.stick) / "Only.flac"
        place.parent.mkdir(parents=True)
        place.write_bytes(b"another's")
        with mock.patch("rumbrel.web.bench.services.deliver_tracks._place_aside", lambda path, wanted, taken: wanted):
            self.assertEqual(self.carried_out(delivery).shown_state, "done with failures")
        self.assertTrue(only.exists())
        self.assertEqual(place.read_bytes(), b"another's")

    def test_it_goes_for_good_only_where_that_was_asked_for(self) -> None:
        volume_of(self.stick)
        write_sound(self.root / "Only.flac", 60_000, seed=5)
        delivery = self.repaired("remove")
        self.assertIn("removed for good", self.page(reverse("bench:delivery", args=[delivery.pk])))
        self.assertEqual(self.carried_out(delivery).state, "done")
        self.assertEqual(self.on_stick(), {"Only.mp3"})
        self.assertEqual(list(settings.RUMBREL.results.rglob("*.flac")), [])


class DigestTests(VolumeCase):
    def test_the_list_on_the_volume_finds_what_changed_without_the_collection(self) -> None:
        self.sounds()
        delivery = self.make(digests="on")
        self.assertEqual(self.carried_out(delivery).state, "done")
        listed = (self.root / "digests.sha256").read_text()
        ours = {line.split("  ")[1]: line.split("  ")[0] for line in listed.splitlines()}
        found = {
            path.relative_to(self.root).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
            for path in self.root.rglob("*.mp3")
        }
        self.assertEqual(ours, found)
        offered = self.client.get(reverse("bench:delivery-digests", args=[delivery.pk]))
        self.assertEqual(offered.content.decode(), listed)
        Track.objects.all().delete()
        self.assertIn("3 files are as they were delivered", self.checked().message)
        first, second, _ = sorted(found)
        (self.root / first).write_bytes((self.root / first).read_bytes()[:-1] + b"\0")
        (self.root / second).unlink()
        job = self.checked()
        self.assertEqual((job.shown_state, job.failures), ("done with failures", 2))
        self.assertIn(f"1 file is as it was delivered; 1 changed: {first}; 1 missing: {second}.", job.message)
        self.assertIn("1 missing", self.page(reverse("bench:volume", args=[self.stick.pk])))

    def checked(self) -> Job:
        self.press("check-volume", self.stick.pk)
        return next(job for job in self.work() if job.kind == "check-volume")

    def test_what_failed_is_not_called_done_nor_safe_to_remove(self) -> None:
        self.sounds()
        delivery = self.make()

        def refused(*args: object, **more: object) -> object:
            result = put_on_volume(*args, **more)  # type: ignore[arg-type]
            if "Watch" in result.output:
                Path(result.output).unlink()
                return replace(result, ok=False, output="", error="It does not read back.")
            return result

        with mock.patch("rumbrel.core.workflows.deliver.put_on_volume", refused):
            job = self.carried_out(delivery)
        self.assertEqual((job.shown_state, job.failures), ("done with failures", 1))
        self.assertNotIn("safe to remove", job.message)
        page = self.page(reverse("bench:delivery", args=[delivery.pk]))
        self.assertNotIn("is safe to remove", page)
        self.assert_all_in(("done with failures", "Retry failed"), page)
        self.assertIn("It is safe to remove.", self.carried_out(delivery).message)
