"""Pages, services and commands."""

import io
import json
import os
import tempfile
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.core.management.base import CommandError
from django.test import TestCase, override_settings
from django.urls import reverse

from rumbrel.core.conversion.placing import working_path
from rumbrel.core.forecast import WhenPresent
from rumbrel.core.targets import all_targets, find_target
from rumbrel.web.batches import services as batches
from rumbrel.web.batches.models import Batch, Item
from rumbrel.web.collection import services as collection
from rumbrel.web.collection.models import Pull, Scan, SourceFolder, Track
from rumbrel.web.discs import services as discs
from rumbrel.web.discs.models import Disc
from rumbrel.web.playlists.models import Playlist
from tests.signals import leftovers, write_sound

PAGES = ("collection", "folders", "where", "targets", "batches", "forecast", "playlists", "discs", "bench", "help")


class WebCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name).resolve()
        self.source = self.folder / "source"
        self.source.mkdir()
        places = override_settings(
            ROOTS=[self.source],
            RESULTS=self.folder / "results",
            DROPPED=self.folder / "dropped",
            DISCS=self.folder / "discs",
        )
        places.enable()
        self.addCleanup(places.disable)

    def gather(self) -> None:
        """A small collection, scanned."""
        write_sound(self.source / "a" / "peal <b>.flac", 250_000)
        write_sound(self.source / "notice 🔔.wav", 260_000, channels=1)
        (self.source / "empty.mp3").touch()
        (self.source / "readme.txt").write_text("not a track")
        collection.add_folder(str(self.source))
        collection.run_scan(Scan.objects.get().pk)

    def pull_all(self) -> None:
        Pull.objects.bulk_create([Pull(track=track) for track in Track.objects.all()])


class PageTests(WebCase):
    def test_every_page_empty_and_full_under_a_strict_policy(self) -> None:
        for full in (False, True):
            if full:
                self.gather()
                self.pull_all()
            for page in PAGES:
                response = self.client.get(reverse(page))
                self.assertEqual(response.status_code, 200, page)
                self.assertIn("default-src 'none'", response["Content-Security-Policy"])
                self.assertNotIn("unsafe", response["Content-Security-Policy"])
                text = response.content.decode()
                self.assertNotIn(" style=", text, page)
                self.assertNotIn("<b>.flac", text)
                self.assertNotRegex(text, r'(src|href)="(https?:)?//')

    def test_scan_lists_faults_and_passes_other_files_over(self) -> None:
        self.gather()
        scan = Scan.objects.get()
        self.assertEqual((scan.state, scan.passed_over), ("finished", 1))
        self.assertEqual(Track.objects.count(), 3)
        self.assertEqual(Track.objects.get(relative="empty.mp3").fault, "empty")
        page = self.client.get("/?text=notice").content.decode()
        self.assertIn("1 of 3 tracks", page)
        self.assertIn("peal &lt;b&gt;", self.client.get("/").content.decode())

    def test_a_folder_that_vanishes_keeps_its_tracks(self) -> None:
        self.gather()
        self.source.rename(self.folder / "elsewhere")
        scan = collection.start_scan(SourceFolder.objects.get())
        collection.run_scan(scan.pk)
        scan.refresh_from_db()
        self.assertEqual(scan.state, "failed")
        self.assertIn("is not there", scan.error)
        self.assertEqual(Track.objects.count(), 3)

    def test_folders_outside_the_roots_are_refused_also_through_links(self) -> None:
        (self.source / "out").symlink_to("/etc")
        for path in ("/etc", f"{self.source}/../..", str(self.source / "out"), ""):
            page = self.client.post(reverse("add-folder"), {"path": path}, follow=True).content.decode()
            self.assertIn("Not done.", page, path)
        self.assertEqual(SourceFolder.objects.count(), 0)

    def test_pulling_and_putting_back(self) -> None:
        self.gather()
        track = Track.objects.first()
        self.client.post(reverse("pull", args=[track.pk]))
        self.assertEqual(Pull.objects.count(), 1)
        self.client.post(reverse("clear-pull"))
        self.assertEqual(Pull.objects.count(), 0)
        self.client.post(reverse("undo-clear"))
        self.assertEqual(Pull.objects.count(), 1)

    def test_dropped_files_keep_their_names_and_lose_their_paths(self) -> None:
        data = write_sound(self.folder / "x.wav").read_bytes()
        for _ in range(2):
            self.client.post(reverse("drop"), {"files": [SimpleUploadedFile("../../x.wav", data)]})
        names = sorted(path.name for path in (self.folder / "dropped").iterdir())
        self.assertEqual(names, ["x (2).wav", "x.wav"])


class BatchTests(WebCase):
    def start(self, target: str = "archive-flac") -> Batch:
        self.gather()
        self.pull_all()
        return batches.start(collection.pulled_tracks(), find_target(target), WhenPresent.SKIP)

    def work(self) -> None:
        for pk in Item.objects.filter(state="waiting").values_list("pk", flat=True):
            batches.run_item(pk)

    def test_a_batch_from_forecast_to_download(self) -> None:
        batch = self.start()
        self.work()
        batch.refresh_from_db()
        self.assertEqual((batch.state, batch.counts), ("finished", {"done": 2, "refused": 1}))
        exact = batch.items.get(source__endswith=".wav")
        self.assertTrue(exact.checked and exact.bit_exact)
        self.assertTrue(Path(exact.output).is_relative_to(settings.RESULTS))
        self.assertEqual(self.client.get(reverse("download", args=[exact.pk])).status_code, 200)
        archive = b"".join(self.client.get(reverse("download-all", args=[batch.pk])).streaming_content)
        self.assertEqual(archive[:2], b"PK")
        page = self.client.get(reverse("batch", args=[batch.pk])).content.decode()
        for words in ("bit-exact", "refused", "has no content", str(batch.place)):
            self.assertIn(words, page)
        self.assertEqual(leftovers(self.folder), [])

    def test_cancel_and_continue(self) -> None:
        batch = self.start()
        self.client.post(reverse("cancel-batch", args=[batch.pk]))
        self.work()
        self.assertEqual(batch.items.filter(state="waiting").count(), 2)
        self.client.post(reverse("resume-batch", args=[batch.pk]))
        self.work()
        batch.refresh_from_db()
        self.assertEqual(batch.state, "finished")

    def test_an_item_of_a_dead_worker_is_taken_up_again(self) -> None:
        self.start()
        item = Item.objects.filter(state="waiting").first()
        Item.objects.filter(pk=item.pk).update(state="running", worker="999999:1")
        left = working_path(Path(item.output))
        left.parent.mkdir(parents=True)
        left.write_bytes(b"half")
        alive = Item.objects.filter(state="waiting").first()
        Item.objects.filter(pk=alive.pk).update(state="running", worker=batches._me())
        self.assertEqual(batches.take_up_orphans(), 1)
        item.refresh_from_db()
        self.assertEqual(item.state, "waiting")
        self.assertFalse(left.exists())

    def test_a_wrong_target_is_named(self) -> None:
        page = self.client.get("/batches/forecast/?target=nowhere", follow=True).content.decode()
        self.assertIn("There is no target", page)


class DiscTests(WebCase):
    def test_from_pull_list_to_a_disc_read_back(self) -> None:
        self.gather()
        self.pull_all()
        self.client.post(reverse("make-playlist"), {"name": "Shop / disc"})
        playlist = Playlist.objects.get()
        order = list(playlist.entries.values_list("pk", flat=True))
        self.client.post(reverse("reorder", args=[playlist.pk]), {"entry": order[::-1]})
        self.assertEqual(list(playlist.entries.values_list("pk", flat=True)), order[::-1])
        self.client.post(reverse("lay-out", args=[playlist.pk]))
        disc = Disc.objects.get()
        self.client.post(reverse("change-disc", args=[disc.pk]), {"medium": "74", "gap": "0", "speed": "8"})
        disc.refresh_from_db()
        self.assertEqual((disc.medium_key, disc.gap_seconds), ("74", 0))
        discs.start_write(disc)
        discs.run_write(disc.pk)
        disc.refresh_from_db()
        self.assertEqual(disc.state, "written", disc.error)
        self.assertTrue(disc.verdicts and all(verdict["equal"] for verdict in disc.verdicts))
        page = self.client.get(reverse("disc", args=[disc.pk])).content.decode()
        self.assertIn("is left out", page)
        for kind, status in (("bin", 200), ("cue", 200), ("py", 404)):
            self.assertEqual(self.client.get(reverse("disc-image", args=[disc.pk, kind])).status_code, status)


class CommandTests(WebCase):
    def run_command(self, *words: str) -> tuple[list[dict], int]:
        out, status = io.StringIO(), 0
        try:
            call_command(*words, "--json", stdout=out)
        except CommandError as error:
            status = error.returncode
        except SystemExit as end:
            status = int(end.code or 0)
        return [json.loads(line) for line in out.getvalue().splitlines()], status

    def test_inspect_and_targets(self) -> None:
        good = str(write_sound(self.folder / "a b's.wav", 22_050))
        records, status = self.run_command("inspect", good)
        self.assertEqual((status, records[0]["samples"], records[0]["duration"]), (0, 22_050, 0.5))
        bad = self.folder / "bad.wav"
        bad.write_text("words")
        records, status = self.run_command("inspect", str(bad), good)
        self.assertEqual((status, [r["ok"] for r in records]), (1, [False, True]))
        records, status = self.run_command("targets")
        self.assertEqual([r["slug"] for r in records], [target.slug for target in all_targets()])

    def test_convert_mirrors_the_tree_and_goes_on_after_faults(self) -> None:
        write_sound(self.source / "deep" / "er" / "a.wav")
        write_sound(self.source / "b.flac")
        (self.source / "cover.jpg").write_bytes(b"\xff\xd8")
        out = self.folder / "out"
        records, status = self.run_command("convert", "--target", "car-mp3", "--out", str(out), str(self.source))
        self.assertEqual(status, 0)
        self.assertEqual(sorted(r["action"] for r in records), ["convert", "convert", "skip"])
        self.assertTrue((out / "deep" / "er" / "a.mp3").is_file() and (out / "b.mp3").is_file())
        (self.source / "empty.wav").touch()
        words = ("convert", "--target", "car-mp3", "--out", str(out), "--when-present", "replace", str(self.source))
        records, status = self.run_command(*words)
        self.assertEqual((status, sum(r["ok"] for r in records)), (1, 3))
        _, status = self.run_command("convert", "--target", "nowhere", "--out", str(out), str(self.source))
        self.assertEqual(status, 1)

    def test_disc_writes_when_it_fits_and_only_then(self) -> None:
        for number in (1, 2):
            write_sound(self.source / f"{number}.wav", 44_100 * 5, seed=number)
        sheet = self.source / "shop.m3u8"
        sheet.write_text("#EXTM3U\n#EXTINF:5,First\n1.wav\n2.wav\n")
        out = self.folder / "discs"
        records, status = self.run_command("disc", "--out", str(out), "--gap", "3", str(sheet))
        self.assertEqual((status, records[0]["fits"], records[0]["total_sectors"]), (0, True, 375 * 2 + 225))
        self.assertEqual([t["title"] for t in records[0]["tracks"]], ["First", "2"])
        self.assertEqual(
            sorted(p.name for p in out.iterdir()), [f"shop.{s}" for s in ("bin", "cdt", "cue", "digests", "sub")]
        )
        long = self.source / "long.wav"
        write_sound(long, 44_100)
        with long.open("r+b") as file:
            size = 76 * 60 * 176_400
            file.truncate(44 + size)
            file.seek(4)
            file.write((36 + size).to_bytes(4, "little"))
            file.seek(40)
            file.write(size.to_bytes(4, "little"))
        records, status = self.run_command("disc", "--out", str(out), "--medium", "74", "--name", "long", str(long))
        self.assertEqual((status, records[0]["fits"]), (2, False))
        self.assertLess(records[0]["free_sectors"], 0)
        self.assertFalse((out / "long.bin").exists())


class AssetTests(TestCase):
    def test_the_built_css_is_not_stale(self) -> None:
        """Every rule's class and every class a template uses is in the built file, and it is newer in content."""
        import hashlib

        root = Path(settings.BASE_DIR)
        built = root / "rumbrel/web/ui/static/ui/rumbrel.css"
        stamp = (root / "assets/built.sha256").read_text().split()
        sources = [root / "assets/rumbrel.css", *sorted(root.glob("rumbrel/web/*/templates/**/*.html"))]
        digest = hashlib.sha256(b"".join(path.read_bytes() for path in sources)).hexdigest()
        now = [digest, hashlib.sha256(built.read_bytes()).hexdigest()]
        self.assertEqual(stamp, now, "The CSS is stale: run `npm ci && npm run build` in assets/")

    def test_secret_is_private(self) -> None:
        mode = os.stat(Path(settings.DATA) / "secret-key").st_mode & 0o777
        self.assertEqual(mode, 0o600)
        self.assertGreater(len(settings.SECRET_KEY), 40)
