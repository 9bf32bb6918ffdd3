"""Scans: what they keep, what they never lose, and how little they read the second time."""

import os
import re
from dataclasses import replace
from pathlib import Path
from unittest import mock
from urllib.parse import urlencode

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db.models import Sum
from django.urls import reverse

from rumbrel.core.errors import Cancelled, OutputError
from rumbrel.core.inspection import inspect_file, inspect_many
from rumbrel.web.collection.facts import restored_facts
from rumbrel.web.collection.models import Facet, PullList, SourceFolder, Track, TrackFacts
from rumbrel.web.collection.queries import find_tracks, pull_list_of, pulled_ids
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.collection.services import add_folder, pull_found, reread_old_facts, start_scan
from rumbrel.web.collection.services.remove_missing import remove_tracks
from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.services import make_playlist
from tests.marks import slow
from tests.signals import write_film, write_sound
from tests.web.case import WebCase

REMOVAL = "rumbrel.web.collection.services.remove_folder"


class ScanTests(WebCase):
    def rescan(self) -> str:
        start_scan(folder=SourceFolder.objects.get())
        job = self.work()[0]
        return f"{job.state}: {job.message}{job.error}"

    def test_tracks_faults_and_what_is_ignored(self) -> None:
        self.gather()
        self.assertEqual(
            list(Track.objects.values_list("relative", "fault")),
            [("a/peal <b>.flac", ""), ("empty.mp3", "empty"), ("notice 🔔.wav", "")],
        )
        self.assertEqual(self.rescan(), "done: 3 tracks; 1 file without sound skipped.")
        self.assertIn("3 tracks; 1 file without sound skipped", self.page(reverse("collection:folders")))

    def test_facts_are_kept_whole(self) -> None:
        write_film(self.source / "late.mkv", seconds=2, sound_late_seconds=0.5)
        write_sound(self.source / "b.flac")
        (self.source / "named.mp3").write_bytes((self.source / "b.flac").read_bytes())
        self.scan()
        for row in TrackFacts.objects.select_related("track"):
            path = self.source / row.track.relative
            self.assertEqual(restored_facts(row.data), inspect_file(path), path.name)

    def test_a_rescan_reads_only_what_changed(self) -> None:
        self.gather()
        write_sound(self.source / "notice 🔔.wav", 200_000, channels=1)
        write_sound(self.source / "new.wav", 9_000)
        with mock.patch(
            "rumbrel.web.collection.services.scan_folder.inspect_many", side_effect=inspect_many
        ) as reading:
            self.rescan()
        names = sorted(path.name for path in reading.call_args.args[0])
        self.assertEqual(names, ["new.wav", "notice 🔔.wav", "readme.txt"])
        self.assertEqual(Track.objects.get(relative="notice 🔔.wav").samples, 200_000)

    def test_facts_of_an_older_inspection_are_read_again(self) -> None:
        self.gather()
        self.assertEqual(reread_old_facts(), 0)
        Track.objects.filter(relative="a/peal <b>.flac").update(facts_version=0, samples=1)
        self.assertEqual(reread_old_facts(), 1)
        self.work()
        self.assertEqual(Track.objects.get(relative="a/peal <b>.flac").samples, 250_000)

    def test_what_is_gone_is_missing_and_stays_in_every_list_until_it_is_back(self) -> None:
        self.gather()
        pull_found(sentence=Sentence())
        playlist = make_playlist(name="List", track_ids=pulled_ids())
        path = self.source / "notice 🔔.wav"
        path.rename(self.folder / "elsewhere.wav")
        self.assertIn("1 track no longer there, kept as missing", self.rescan())
        track = Track.objects.get(relative="notice 🔔.wav")
        self.assertIsNotNone(track.missing_since)
        self.assertEqual((track.fault, track.usable), ("missing", False))
        self.assertEqual((len(pulled_ids()), playlist.entries.count()), (3, 3))
        self.assertIn("Connect its disk", self.page(reverse("collection:track", args=[track.pk])))
        (self.folder / "elsewhere.wav").rename(path)
        self.rescan()
        track.refresh_from_db()
        self.assertEqual((track.missing_since, track.fault, track.usable), (None, "", True))

    def test_a_folder_that_vanishes_keeps_its_tracks(self) -> None:
        self.gather()
        self.source.rename(self.folder / "elsewhere")
        self.assertRegex(self.rescan(), r"^failed: .* is not there\. Connect its disk")
        self.assertEqual(Track.objects.filter(missing_since=None).count(), 3)

    def test_a_file_that_was_moved_or_renamed_is_the_same_track(self) -> None:
        self.gather()
        pull_found(sentence=Sentence())
        ids = dict(Track.objects.values_list("relative", "pk"))
        (self.source / "b").mkdir()
        (self.source / "a" / "peal <b>.flac").rename(self.source / "b" / "peal again.flac")
        (self.source / "notice 🔔.wav").rename(self.source / "b" / "notice 🔔.wav")
        self.assertIn("2 files moved or renamed, known again", self.rescan())
        wanted = {
            "b/notice 🔔.wav": ids["notice 🔔.wav"], "b/peal again.flac": ids["a/peal <b>.flac"],
            "empty.mp3": ids["empty.mp3"],
        }  # fmt: skip
        self.assertEqual(dict(Track.objects.values_list("relative", "pk")), wanted)
        self.assertEqual(Track.objects.filter(missing_since=None, usable=True).count(), 2)
        self.assertEqual(find_tracks(Sentence(text="again")).get().pk, wanted["b/peal again.flac"])
        self.assertEqual(len(pulled_ids()), 3)
        self.assertEqual(self.rescan(), "done: 3 tracks; 1 file without sound skipped.")

    def test_a_copy_is_a_track_of_its_own_and_equal_ones_move_by_their_names(self) -> None:
        whole = write_sound(self.source / "one.wav").read_bytes()
        self.scan()
        for name in ("two.wav", "three.wav"):
            (self.source / name).write_bytes(whole)
        self.assertEqual(self.rescan(), "done: 3 tracks.")
        ids = dict(Track.objects.values_list("relative", "pk"))
        (self.source / "x").mkdir()
        for name in ids:
            (self.source / name).rename(self.source / "x" / name)
        self.assertIn("3 files moved", self.rescan())
        self.assertEqual(dict(Track.objects.values_list("relative", "pk")), {f"x/{n}": pk for n, pk in ids.items()})

    def test_a_file_of_other_content_is_another_track(self) -> None:
        for name in ("kept.wav", "kept2.wav", "old.wav"):
            write_sound(self.source / name, 90_000, seed=len(name))
        self.scan()
        (self.source / "old.wav").unlink()
        write_sound(self.source / "new.wav", 90_000, seed=99)
        self.assertIn("1 track no longer there", self.rescan())
        self.assertEqual(Track.objects.count(), 4)

    def test_where_most_is_gone_it_asks_before_it_believes(self) -> None:
        self.gather()
        pull_found(sentence=Sentence())
        away = self.folder / "away"
        away.mkdir()
        for path in list(self.source.iterdir()):
            path.rename(away / path.name)
        self.assertIn("3 tracks not found, and not believed to be gone yet", self.rescan())
        self.assertEqual(Track.objects.filter(missing_since=None).count(), 3)
        folder = SourceFolder.objects.get()
        self.assertIn("Are 3 files gone?", self.page(reverse("collection:folders")))
        self.client.post(reverse("collection:believe-loss", args=[folder.pk]))
        self.work()
        self.assertEqual(Track.objects.filter(missing_since=None).count(), 0)
        page = self.page(reverse("collection:folders"))
        self.assertNotIn("gone?", page)
        self.assertIn("3 missing", page)
        for path in list(away.iterdir()):
            path.rename(self.source / path.name)
        self.rescan()
        self.assertEqual((Track.objects.filter(usable=True).count(), len(pulled_ids())), (2, 3))

    def test_half_is_not_most(self) -> None:
        for number in range(4):
            write_sound(self.source / f"{number}.wav", 900, seed=number)
        self.scan()
        for number in range(2):
            (self.source / f"{number}.wav").unlink()
        self.assertIn("2 tracks no longer there", self.rescan())

    def test_only_the_user_removes_and_is_told_what_goes_with_it(self) -> None:
        self.gather()
        pull_found(sentence=Sentence())
        playlist = make_playlist(name="List", track_ids=pulled_ids())
        (self.source / "notice 🔔.wav").unlink()
        self.rescan()
        folder = SourceFolder.objects.get()
        page = self.page(reverse("collection:missing", args=[folder.pk]))
        self.assert_all_in(("Remove 1 track", "1 playlist would lose entries"), page)
        response = self.client.post(reverse("collection:remove-missing", args=[folder.pk]), follow=True)
        self.assertIn("1 track removed from the collection", response.content.decode())
        playlist.refresh_from_db()
        self.assertEqual((Track.objects.count(), playlist.count, PullList.objects.get().count), (2, 2, 2))
        self.assertEqual(sum(Facet.objects.values_list("tracks", flat=True)), 2)

    def test_a_folder_that_cannot_be_read_is_named_and_its_tracks_stay(self) -> None:
        self.gather()
        real = os.scandir

        def denied(path: str) -> object:
            if os.fspath(path).endswith("/a"):
                raise PermissionError(13, "denied")
            return real(path)

        with mock.patch("rumbrel.core.forecast.sources.os.scandir", side_effect=denied):
            self.assertRegex(self.rescan(), "1 folder could not be read: .*/source/a")
        self.assertEqual(Track.objects.filter(missing_since=None).count(), 3)

    def test_many_tracks_leave_a_few_at_a_time_and_a_stop_leaves_the_rest_whole(self) -> None:
        for number in range(7):
            write_sound(self.source / f"{number}.wav", 900 + number)
        self.scan()
        pull_found(sentence=Sentence())
        folder, turns = SourceFolder.objects.get(), []
        noted = remove_tracks

        def counted(going: list[int]) -> int:
            turns.append(len(going))
            if len(turns) == 2:
                Job.objects.filter(kind="remove-folder").update(stop_asked=True)
            return noted(going)

        with (
            mock.patch(f"{REMOVAL}.MOST_AT_ONCE", 3), mock.patch(f"{REMOVAL}._TRACKS_A_TURN", 2),
            mock.patch(f"{REMOVAL}.remove_tracks", counted),
        ):  # fmt: skip
            address = reverse("collection:folder-removed", args=[folder.pk])
            self.assertIn("runs in the background", self.client.post(address, follow=True).content.decode())
            self.assertIn("is being removed already", self.client.post(address, follow=True).content.decode())
            (job,) = self.work()
            self.assertEqual((job.state, turns), ("stopped", [2, 2]))
            self.assertEqual((Track.objects.count(), pull_list_of().count), (3, 3))
            self.assertEqual(sum(Facet.objects.values_list("tracks", flat=True)), 3)
            self.client.post(address)
        self.assertEqual((SourceFolder.objects.count(), Track.objects.count()), (0, 0))
        self.assertEqual(len(list(self.source.glob("*.wav"))), 7)

    def test_links_out_of_the_roots_are_not_followed(self) -> None:
        outside = self.folder / "outside"
        write_sound(outside / "secret.wav")
        write_sound(self.source / "in" / "open.wav")
        (self.source / "folder").symlink_to(outside)
        (self.source / "file.wav").symlink_to(outside / "secret.wav")
        (self.source / "inside.wav").symlink_to(self.source / "in" / "open.wav")
        (self.source / "circle.wav").symlink_to(self.source / "circle.wav")
        self.scan()
        self.assertEqual(list(Track.objects.values_list("relative", flat=True)), ["in/open.wav"])
        self.assertIn("1 link to files that are there skipped", Job.objects.get().message)
        self.assertIn("3 links out of the allowed folders skipped", Job.objects.get().message)

    def test_a_folder_within_another_has_its_tracks_alone_and_keeps_their_history(self) -> None:
        self.gather()
        write_sound(self.source / "ab.wav")
        self.rescan()
        ids = dict(Track.objects.values_list("path", "pk"))
        outer = SourceFolder.objects.get()
        inner = add_folder(path=str(self.source / "a"))
        self.work()
        self.assertEqual(list(inner.tracks.values_list("relative", flat=True)), ["peal <b>.flac"])
        start_scan(folder=outer)
        self.work()
        self.assertEqual(dict(Track.objects.values_list("path", "pk")), ids)
        self.assertEqual((outer.tracks.count(), inner.tracks.count()), (3, 1))
        self.assertEqual(Track.objects.exclude(missing_since=None).count(), 0)
        counts = {facet["folder"]: facet["n"] for facet in Facet.objects.values("folder").annotate(n=Sum("tracks"))}
        self.assertEqual(counts, {outer.pk: 3, inner.pk: 1})

    def test_a_file_that_moved_to_another_source_folder_goes_there_with_its_history(self) -> None:
        self.gather()
        other = self.source.parent / "source2"
        other.mkdir()
        with self.settings(RUMBREL=replace(settings.RUMBREL, roots=(self.source, other))):
            pk = Track.objects.get(relative="notice 🔔.wav").pk
            (self.source / "notice 🔔.wav").rename(other / "notice.wav")
            folder = add_folder(path=str(other))
            self.work()
        self.assertEqual(Track.objects.get(pk=pk).folder_id, folder.pk)
        self.assertEqual(sum(Facet.objects.values_list("tracks", flat=True)), 3)

    def test_a_copy_in_another_source_folder_takes_nothing_from_the_first(self) -> None:
        self.gather()
        other = self.source.parent / "source2"
        write_sound(other / "own.wav", 9_000)
        (other / "notice.wav").write_bytes((self.source / "notice 🔔.wav").read_bytes())
        with self.settings(RUMBREL=replace(settings.RUMBREL, roots=(self.source, other))):
            folder = add_folder(path=str(other))
            self.work()
        self.assertEqual((folder.tracks.count(), Track.objects.count()), (2, 5))
        self.assertEqual(Track.objects.get(relative="notice 🔔.wav").path, str(self.source / "notice 🔔.wav"))

    def test_names_that_differ_in_undecodable_bytes_are_two_files(self) -> None:
        whole = write_sound(self.folder / "x.wav").read_bytes()
        for byte in (b"\xff", b"\xfe"):
            with open(os.path.join(os.fsencode(self.source), b"tape " + byte + b".wav"), "wb") as file:
                file.write(whole)
        self.scan()
        self.assertEqual(Track.objects.filter(usable=True).count(), 2)
        for row in TrackFacts.objects.all():
            self.assertTrue(Path(restored_facts(row.data).path).is_file())

    def test_counts_are_those_of_the_tracks(self) -> None:
        self.gather()
        self.assertEqual(sum(Facet.objects.values_list("tracks", flat=True)), 3)
        self.assertAlmostEqual(
            sum(Facet.objects.values_list("seconds", flat=True)), sum(Track.objects.values_list("seconds", flat=True))
        )

    @slow
    def test_a_stopped_scan_keeps_what_it_has_and_goes_on(self) -> None:
        for number in range(40):
            write_sound(self.source / f"{number}.wav", 900)
        with mock.patch("rumbrel.web.collection.services.scan_folder.inspect_many", side_effect=Cancelled("Stopped.")):
            self.scan()
        self.assertEqual((Job.objects.get().state, Track.objects.count()), ("stopped", 0))
        self.assertEqual(self.rescan(), "done: 40 tracks.")
        self.assertEqual(Track.objects.count(), 40)


class FolderTests(WebCase):
    def test_folders_outside_the_roots_are_refused_also_through_links(self) -> None:
        (self.source / "out").symlink_to("/etc")
        for path, words in (
            ("/etc", "may only read below"),
            (f"{self.source}/../..", "may only read below"),
            (str(self.source / "out"), "may only read below"),
            ("", "Name a folder"),
            ("a\0b", "Name a folder"),
            ("~nobody-of-that-name/x", "is not a folder"),
            (str(self.source / "gone"), "is not a folder"),
            ("x" * 5_000, "Name a folder"),
        ):
            page = self.client.post(reverse("collection:add-folder"), {"path": path}, follow=True).content.decode()
            self.assertIn(words, page, path[:30])
        self.assertEqual(SourceFolder.objects.count(), 0)

    def test_files_of_a_form_keep_their_names_and_lose_their_paths(self) -> None:
        for seed in (1, 2, 2):
            data = write_sound(self.folder / "x.wav", seed=seed).read_bytes()
            self.client.post(reverse("collection:drop"), {"files": [SimpleUploadedFile("../../x.wav", data)]})
        names = sorted(path.name for path in settings.RUMBREL.dropped.iterdir())
        self.assertEqual(names, ["x (2).wav", "x.wav"], "the same file again is the one that is there")
        self.work()
        self.assertEqual(find_tracks(Sentence()).filter(usable=True).count(), 2)

    def drop(self, name: str, content: bytes, size: int | None = None):  # type: ignore[no-untyped-def]
        address = f"{reverse('collection:drop-file')}?{urlencode({'name': name, 'size': len(content) if size is None else size})}"
        return self.client.post(address, content, content_type="application/octet-stream")

    def test_a_folder_is_dropped_file_by_file(self) -> None:
        content = write_sound(self.folder / "x.wav").read_bytes()
        dropped = settings.RUMBREL.dropped
        for name, right in (
            ("Tower/Day 1/a.wav", "Tower/Day 1/a.wav"), ("../../b/../c.wav", "b/c.wav"), ("/etc/.d/\\e\t.wav", "etc/d/e.wav"),
            ("...", "sound"), ("f/" * 60 + "g.wav", "f/" * 23 + "g.wav"),
        ):  # fmt: skip
            with self.subTest(name=name):
                answer = self.drop(name, content + name.encode())
                self.assertEqual(
                    (answer.status_code, answer.json()), (200, {"path": str(dropped / right), "known": False})
                )
                self.assertEqual((dropped / right).read_bytes(), content + name.encode())
        said = self.client.post(reverse("collection:end-drop")).json()
        self.assertEqual(said, {"folder": str(dropped), "job": Job.objects.get(kind="scan").pk})
        self.work()
        self.assertEqual(Track.objects.filter(relative__startswith="Tower/Day 1/").count(), 1)

    def test_what_is_there_already_is_known_again(self) -> None:
        self.gather()
        content = (self.source / "a" / "peal <b>.flac").read_bytes()
        answer = self.drop("elsewhere/other name.flac", content).json()
        self.assertEqual(answer, {"path": str(self.source / "a" / "peal <b>.flac"), "known": True})
        self.assertFalse(
            self.drop("elsewhere/other name.flac", content[:-1] + b"?").json()["known"], "one byte differs"
        )
        self.assertEqual(
            [path.name for path in settings.RUMBREL.dropped.rglob("*") if path.is_file()], ["other name.flac"]
        )

    def test_half_a_file_leaves_nothing(self) -> None:
        answer = self.drop("a.wav", b"half", size=8)
        self.assertEqual(
            (answer.status_code, answer.json()["error"]),
            (409, "The file ended 4 bytes too early. Nothing of it was kept."),
        )
        self.assertEqual(self.drop("x" * 5_000, b"").status_code, 400)
        with mock.patch(
            "rumbrel.web.collection.services.keep_dropped.move_into_place",
            side_effect=OutputError("There is no room left."),
        ):
            self.assertEqual(self.drop("a.wav", b"whole").json(), {"error": "There is no room left."})
        (settings.RUMBREL.dropped / "out").symlink_to(self.folder)
        self.assertIn("leads out", self.drop("out/a.wav", b"whole").json()["error"])
        self.assertEqual([path.name for path in settings.RUMBREL.dropped.rglob("*")], ["out"])

    def test_a_drop_of_nothing_is_said(self) -> None:
        page = self.client.post(reverse("collection:drop"), follow=True).content.decode()
        self.assertIn("No files came with that", page)


class BrowseTests(WebCase):
    def browse(self, path: Path | str = "") -> str:
        return self.fragment(reverse("collection:browse"), path=str(path))

    def test_folders_are_walked_within_the_allowed_ones(self) -> None:
        self.gather()
        (self.source / ".hidden").mkdir()
        (self.source / "out").symlink_to(self.folder)
        (self.source / "again").symlink_to(self.source / "a")
        self.assertIn(str(self.source), self.browse())
        page = self.browse(self.source)
        self.assertIn("2 sound files in it itself", page)
        found = re.findall(r'class="row-link"[^>]*>([^<]*)<', page)
        self.assertEqual(found, ["a", "again"])
        self.assertIn("1 sound file in it itself", self.browse(self.source / "a"))
        for path in (self.folder, self.source / "..", self.source / "out", "/", "/proc/self/root"):
            self.assertIn("outside the folders", self.browse(path), path)
        self.assertIn("no longer there", self.browse(self.source / "gone"))
        count = reverse("collection:count-files")
        self.assertEqual(self.fragment(count, path=str(self.source)), "3")
        self.assertEqual(self.fragment(count, path=str(self.folder)), "–")
        with mock.patch("rumbrel.core.places.browsing.time.monotonic", side_effect=[0, 9]):
            self.assertEqual(self.fragment(count, path=str(self.source)), "more than 2")

    def test_a_folder_is_called_something_and_leaves_without_its_files(self) -> None:
        self.gather()
        self.pull_all()
        make_playlist(name="Kept list", track_ids=pulled_ids())
        folder = SourceFolder.objects.get()
        self.client.post(reverse("collection:rename-folder", args=[folder.pk]), {"label": "The tower"})
        self.assertIn("The tower", self.page(reverse("collection:index")))
        page = self.page(reverse("collection:remove-folder", args=[folder.pk]))
        for text in ("3 tracks", "1 playlist would lose entries", "files stay where they are"):
            self.assertIn(text, page)
        self.client.post(reverse("collection:scan", args=[folder.pk]))
        self.client.post(reverse("collection:folder-removed", args=[folder.pk]))
        self.assertEqual(SourceFolder.objects.count(), 1, "not while it is being scanned")
        self.work()
        self.client.post(reverse("collection:folder-removed", args=[folder.pk]))
        self.assertEqual((SourceFolder.objects.count(), Track.objects.count(), pulled_ids()), (0, 0, []))
        self.assertTrue((self.source / "a" / "peal <b>.flac").exists())
