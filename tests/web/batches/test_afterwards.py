"""What is done with a batch once it has ended, and how batches take their turns."""

import csv
import hashlib
import html
import io
import json
import os
import re
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.urls import reverse
from django.utils import timezone

from rumbrel.core.conversion import carry_out
from rumbrel.core.forecast import forecast_batch, gather_sources
from rumbrel.core.forecast.ledger import ResultLedger
from rumbrel.core.inspection import inspect_file
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.convert import run_plan
from rumbrel.web.batches.models import Batch, Item, KeptInStep
from rumbrel.web.batches.services import keep_what_is_due, start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import pause_job, put_first, run_next, unpause_job
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.targets.models import SpecCheck
from tests.signals import music, write_sound
from tests.web.case import WebCase


class EndedCase(WebCase):
    target = "archive-flac"

    def setUp(self) -> None:
        super().setUp()
        write_sound(self.source / "a" / "peal.wav", 100_000)
        write_sound(self.source / "b" / "=notice.wav", 120_000, seed=2)
        self.scan()
        self.pull_all()
        self.batch = self.batch_of(self.target)
        self.work()
        self.batch.refresh_from_db()

    def batch_of(self, target: str) -> Batch:
        return start_batch(track_ids=pulled_ids(), wish=BatchWish(targets=(find_target(target),)))

    def press(self, name: str, pk: int | None = None, **values: object) -> str:
        """Press a button of the batch, and let the work be done."""
        address = reverse(f"batches:{name}", args=[pk or self.batch.pk])
        page = self.client.post(address, values, follow=True).content.decode()
        self.work()
        return page

    def item(self, name: str) -> Item:
        return self.batch.items.get(source__endswith=name)

    def all_files(self, folder: Path) -> dict[str, str]:
        return {
            str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest()
            for path in folder.rglob("*")
            if path.is_file()
        }


class ReportTests(EndedCase):
    def test_as_a_table_as_a_record_and_to_print(self) -> None:
        Item.objects.filter(pk=self.item("peal.wav").pk).update(state="failed", error="The disk was full.")
        rows = list(csv.DictReader(io.StringIO(self.sent("csv"))))
        records = json.loads(self.sent("json"))
        self.assertEqual([row["title"] for row in rows], ["peal", "'=notice"], "no cell is a formula")
        self.assertEqual([record["title"] for record in records], ["peal", "=notice"])
        self.assertEqual((records[1]["bit_exact"], records[1]["result"]), (True, self.item("=notice.wav").output))
        self.assertEqual(rows[0]["error"], "The disk was full.")
        page = self.page(reverse("batches:report", args=[self.batch.pk]))
        self.assertLess(page.index("The disk was full."), page.index("=notice"), "what failed stands on top")
        self.assert_all_in(("Lossless archive, FLAC", "as each target says", "If a name exists"), page)
        page = self.page(reverse("batches:batch", args=[self.batch.pk]))
        self.assertLess(page.index("The disk was full."), page.index("=notice"))

    def sent(self, kind: str) -> str:
        response = self.client.get(reverse(f"batches:{kind}", args=[self.batch.pk]))
        return b"".join(response.streaming_content).decode()

    def test_the_folder_of_the_results_is_listed_and_nothing_else(self) -> None:
        address = reverse("batches:results", args=[self.batch.pk])
        (Path(self.batch.destination) / "source" / "a" / "another.txt").write_text("not ours")
        self.assertIn('href="?below=source"', self.page(address))
        self.assert_all_in(('href="?below=source/a"', "b/"), self.page(address, below="source"))
        page = self.page(address, below="source/a")
        self.assert_all_in(
            ("peal.flac", "1 other file there", reverse("batches:download", args=[self.item("peal.wav").pk])), page
        )
        self.assertNotIn("another.txt", page)
        for below in ("..", "source/../..", "/etc", "source/none"):
            self.assertEqual(self.client.get(address, {"below": below}).status_code, 404, below)


class AgainTests(EndedCase):
    def test_the_same_tracks_with_the_same_settings(self) -> None:
        query = "target=car-mp3&way=mp3-constant-96&into=folder&folder={}&pattern=%7Bstem%7D&when=number&ends=trim"
        query = query.format(self.source / "out")
        self.client.get(f"{reverse('batches:forecast')}?{query}")
        values = dict(part.split("=") for part in query.split("&")) | {"pattern": "{stem}"}
        self.client.post(reverse("batches:start"), values)
        batch = Batch.objects.latest("pk")
        self.client.post(reverse("collection:clear-pull"))
        response = self.client.post(reverse("batches:again", args=[batch.pk]))
        asked = dict(part.split("=") for part in response["Location"].partition("?")[2].split("&"))
        self.assertEqual(
            asked,
            {
                **dict(part.split("=") for part in query.split("&")),
                "folder": str(self.source / "out").replace("/", "%2F"),
            },
        )
        self.assertEqual(len(pulled_ids()), 2)
        Track.objects.get(relative="a/peal.wav").delete()
        page = self.client.post(reverse("batches:again", args=[batch.pk]), follow=True).content.decode()
        self.assertIn("1 are gone", page)

    def test_a_result_that_was_changed_is_told_when_verified_again(self) -> None:
        self.press("verify")
        self.batch.refresh_from_db()
        verified = list(self.batch.items.values_list("verified_at", "verify_error"))
        self.assertTrue(all(at and not error for at, error in verified), verified)
        other = write_sound(self.folder / "other.flac", 100_000, seed=7)
        Path(self.item("peal.wav").output).write_bytes(other.read_bytes())
        poll = reverse("batches:progress", args=[self.batch.pk]) + "?first=1&last=2"
        self.assertNotIn("hx-get", self.page(poll))
        self.client.post(reverse("batches:verify", args=[self.batch.pk]))
        going = self.page(poll)
        self.assert_all_in(("comparing the results with their sources", "waiting for its turn"), going)
        self.work()
        asked = re.search(r'hx-get="[^"]*(since=\d+)', going)[1]
        answer = self.page(f"{poll}&{asked}")
        self.assertIn("failed when checked again", answer, "the line comes by itself")
        self.assertNotIn("hx-get", answer)
        self.assertNotEqual(self.item("peal.wav").verify_error, "")
        self.assertEqual(self.item("=notice.wav").verify_error, "")
        job = Job.objects.filter(kind="verify").latest("pk")
        self.assertEqual(job.message, "1 result as it should be; 1 not.")
        for name in ("batch", "report"):
            page = self.page(reverse(f"batches:{name}", args=[self.batch.pk]))
            self.assertIn("<b>1</b> failed when checked again", page)
            self.assertLess(page.index("peal"), page.index("=notice"), "what failed stands on top")
            self.assertEqual(page.count("bit-exact"), 1, "nothing else is said of a result that differs")
        content = self.client.get(reverse("batches:json", args=[self.batch.pk])).streaming_content
        records = {row["title"]: row for row in json.loads(b"".join(content))}
        self.assertNotEqual(records["peal"]["check_error"], "")
        self.assertEqual((records["=notice"]["check_error"], bool(records["=notice"]["checked_again"])), ("", True))

    def test_the_worst_place_of_a_lossy_result_is_led_to_and_can_be_heard(self) -> None:
        """Half a second of silence in the result, found by comparing it again, and heard beside its source."""
        batch = self.batch_of("car-mp3")
        self.work()
        item = batch.items.get(source__endswith="peal.wav")
        self.assertEqual((item.state, item.compared_samples), (Item.State.DONE, 100_000))
        self.assertIn("Compared with the source over 100,000 samples", item.proof)
        self.assertIn("Decoders: libsndfile and FFmpeg (source), FFmpeg (result).", item.proof)
        gap = music(100_000)
        gap[44_100:66_150] = 0
        write_sound(self.folder / "wrong" / "peal.wav", sound=gap)
        (made,) = forecast_batch(
            gather_sources([self.folder / "wrong"]), find_target("car-mp3"), self.folder / "m"
        ).steps
        self.assertTrue(carry_out(made).ok)
        Path(item.output).write_bytes(Path(made.output).read_bytes())
        self.press("verify", batch.pk)
        item.refresh_from_db()
        self.assertRegex(
            item.verify_error, r"not like its source: silence where the source has sound, worst from 0:01\.\d"
        )
        self.assertEqual((item.worst_clock, item.hear_from), ("0:01", 0))
        page = self.page(reverse("batches:batch", args=[batch.pk]))
        link = re.search(r'href="([^"]*)"[^>]*>Compare at 0:01<', page)
        assert link is not None
        self.assertIn(f"setting=item:{item.pk}", link[1])
        self.assertContains(self.client.get(html.unescape(link[1])), "peal")
        self.assertIn(link[1], self.page(reverse("batches:report", args=[batch.pk])))
        self.press("hold", batch.pk)
        specification = self.page(reverse("targets:specification", args=[SpecCheck.objects.get().pk]))
        self.assertIn(link[1], specification)
        self.assertIn("Compare at 0:01, where it is furthest from its source", specification)

    def test_results_join_the_collection_and_a_playlist_in_the_batchs_order(self) -> None:
        self.press("join")
        playlist = Playlist.objects.get()
        paths = [entry.track.path for entry in playlist.entries.order_by("position").select_related("track")]
        self.assertEqual(paths, [self.item("peal.wav").output, self.item("=notice.wav").output])
        self.assertEqual(SourceFolder.objects.count(), 2)
        job = Job.objects.get(kind="join")
        self.assertEqual(job.message, f"2 tracks in the collection, and in the playlist {playlist.name}.")


class AsideTests(EndedCase):
    def test_only_after_every_check_and_back_again(self) -> None:
        before, aside = self.all_files(self.source), self.source / "done"
        address = reverse("batches:originals", args=[self.batch.pk])
        self.assert_all_in(("2 originals", "a/peal.wav"), self.page(address))
        for folder, words in (("/etc", "may only write below"), (str(self.source), "already"), ("", "whole path")):
            self.assertIn(words, self.press("set-aside", path=folder))
            self.assertEqual(self.all_files(self.source), before)
        Item.objects.filter(pk=self.item("peal.wav").pk).update(state="failed")
        self.batch.counts = {"done": 1, "failed": 1}
        self.batch.save()
        self.assertIn("Not every line passed its check: 1 failed", self.page(address))
        self.assertIn("Not every line", self.press("set-aside", path=str(aside)))
        Item.objects.filter(pk=self.item("peal.wav").pk).update(state="done")
        self.batch.counts = {"done": 2}
        self.batch.save()
        Item.objects.filter(pk=self.item("peal.wav").pk).update(verify_error="It differs.")
        self.assertIn("failed when it was checked again", self.press("set-aside", path=str(aside)))
        Item.objects.update(verify_error="")
        (aside / "source" / "a").mkdir(parents=True)
        (aside / "source" / "a" / "peal.wav").write_bytes(b"another's")
        self.press("set-aside", path=str(aside))
        self.assertEqual(
            self.all_files(self.source),
            {
                "done/source/a/peal.wav": hashlib.sha256(b"another's").hexdigest(),
                "done/source/a/peal (2).wav": before["a/peal.wav"],
                "done/source/b/=notice.wav": before["b/=notice.wav"],
            },
        )
        self.assertEqual(Job.objects.get(kind="aside").message, f"2 originals in {aside}.")
        self.assertIn("moved already", self.press("set-aside", path=str(aside)))
        self.press("put-back")
        self.assertEqual(
            {name: digest for name, digest in self.all_files(self.source).items() if "done" not in name}, before
        )
        self.assertIn("No originals", self.press("put-back"))

    def test_said_before_what_the_results_cannot_bring_back_and_asked_again_where_it_changed(self) -> None:
        exact = self.page(reverse("batches:originals", args=[self.batch.pk]))
        self.assertNotIn("lossless", exact)
        sound, rate = soundfile.read(self.source / "a" / "peal.wav", dtype="int16")
        write = np.concatenate([np.zeros((rate, sound.shape[1]), dtype=np.int16), sound])
        soundfile.write(self.source / "a" / "peal.wav", write, rate)
        self.scan()
        trimmed = start_batch(
            track_ids=pulled_ids(), wish=BatchWish(targets=(find_target("archive-flac"),), trims=True, addition="cut")
        )
        self.work()
        page = self.page(reverse("batches:originals", args=[trimmed.pk]))
        self.assertIn("1 of them is lossless", page, "its silence is nowhere else")
        lossy = self.batch_of("car-mp3")
        self.work()
        page = self.page(reverse("batches:originals", args=[lossy.pk]))
        self.assertIn("2 of them are lossless, and no result of this batch has every sample", page)
        Track.objects.filter(relative="a/peal.wav").update(lossless=False)
        seen = re.search(r'name="seen" value="([^"]+)"', page)[1]
        before = self.all_files(self.source)
        self.assertIn("Nothing was done", self.press("set-aside", lossy.pk, path=str(self.source / "done"), seen=seen))
        self.assertEqual(self.all_files(self.source), before)
        page = self.page(reverse("batches:originals", args=[lossy.pk]))
        self.assertIn("1 of them is lossless", page)
        seen = re.search(r'name="seen" value="([^"]+)"', page)[1]
        self.press("set-aside", lossy.pk, path=str(self.source / "done"), seen=seen)
        self.assertEqual(len(list((self.source / "done").rglob("*.wav"))), 2)

    def test_a_file_that_changed_stays_and_the_others_go(self) -> None:
        with mock.patch(
            "rumbrel.core.workflows.set_aside.copy_compared", side_effect=AssertionError("not on one disk")
        ):
            self.client.post(reverse("batches:set-aside", args=[self.batch.pk]), {"path": str(self.source / "done")})
            changing = mock.patch(
                "rumbrel.web.batches.services.set_originals_aside.carry_out_moves", side_effect=self.changed
            )
            with changing:
                self.work()
        self.assertTrue((self.source / "a" / "peal.wav").exists())
        self.assertTrue((self.source / "done" / "source" / "b" / "=notice.wav").exists())
        self.assertIn("1 stayed: peal.wav changed meanwhile", Job.objects.get(kind="aside").message)

    def changed(self, moves):  # type: ignore[no-untyped-def]
        from rumbrel.core.workflows.set_aside import carry_out_moves

        (self.source / "a" / "peal.wav").write_bytes(b"changed")
        return carry_out_moves(moves)


class SpecTests(EndedCase):
    target = "radio-mp3"

    def test_a_delivery_is_held_against_its_specification_and_so_is_a_file_made_elsewhere(self) -> None:
        self.press("hold")
        check = SpecCheck.objects.get()
        page = self.page(reverse("targets:specification", args=[check.pk]))
        self.assert_all_in(("<b>2</b> meet it", "exactly 128", "128.0", "joint stereo", "high-pass at 10 Hz"), page)
        self.assertNotIn("verdict-failed", page)
        sound = music(44_100 * 4)
        sound += 0.05
        write_sound(self.source / "elsewhere.mp3", sound=sound, subtype="MPEG_LAYER_III")
        self.scan()
        self.pull_all()
        self.client.post(reverse("targets:hold", args=["radio-mp3"]))
        self.work()
        found = SpecCheck.objects.latest("pk").found
        by_title = {
            file["title"]: found[str(number)] for number, file in enumerate(SpecCheck.objects.latest("pk").files)
        }
        wrong = {
            line["what"]: line["measured"] for line in by_title["elsewhere"]["lines"] if line["verdict"] == "failed"
        }
        self.assertIn("Bitrate mode", wrong)
        self.assertLess(abs(float(wrong["Below 5 Hz, dBFS"]) - -26), 0.5, "an offset of 0.05 is -26 dBFS")
        self.assertEqual(by_title["peal"]["lines"][0]["measured"], "WAV")
        address = reverse("targets:specification", args=[SpecCheck.objects.latest("pk").pk])
        self.assertIn("does not", self.page(address) + self.page(address, all=1).replace("do not", "does not"))

    def test_what_is_gone_is_said(self) -> None:
        Path(self.item("peal.wav").output).write_bytes(b"")
        self.press("hold")
        found = SpecCheck.objects.get().found
        self.assertEqual(sorted(each["verdict"] for each in found.values()), ["failed", "passed"])
        self.client.post(reverse("collection:clear-pull"))
        answer = self.client.post(reverse("targets:hold", args=["radio-mp3"]), follow=True).content.decode()
        self.assertIn("no file to check", answer)


class SumTests(EndedCase):
    def test_each_source_counts_once_and_every_line_has_its_digest(self) -> None:
        targets = tuple(find_target(slug) for slug in ("car-mp3", "archive-flac", "disc-wav"))
        batch = start_batch(track_ids=pulled_ids(), wish=BatchWish(targets=targets))
        self.work()
        batch.refresh_from_db()
        files = [self.source / "a" / "peal.wav", self.source / "b" / "=notice.wav"]
        self.assertEqual(batch.bytes_in, sum(path.stat().st_size for path in files))
        items = list(batch.items.exclude(state=Item.State.SKIPPED))
        self.assertEqual(batch.bytes_out, sum(Path(item.output).stat().st_size for item in items))
        for item in items:
            self.assertEqual(item.sha256, hashlib.sha256(Path(item.output).read_bytes()).hexdigest(), item.output)
        copies = [item for item in items if item.action == "copy"]
        self.assertTrue(copies and all(item.identical_file and item.bit_exact for item in copies))
        self.assertIn("identical file", self.page(reverse("batches:batch", args=[batch.pk])))
        printed = self.page(reverse("batches:report", args=[batch.pk]))
        self.assert_all_in((f"SHA-256 {items[0].sha256}", "identical file"), printed)


class StepTests(EndedCase):
    def test_new_and_changed_is_made_again_and_what_went_is_named(self) -> None:
        self.press("keep", covers="all")
        kept = KeptInStep.objects.get()
        KeptInStep.objects.update(looked_at=timezone.now())
        self.assertEqual(keep_what_is_due(), 0, "nothing was scanned since")
        made = {path: path.stat().st_mtime_ns for path in Path(self.batch.destination).rglob("*.flac")}
        self.assertIn("is in sync", self.press("step", pk=kept.pk))
        write_sound(self.source / "c" / "new.wav", 90_000, seed=5)
        write_sound(self.source / "a" / "peal.wav", 110_000, seed=6)
        gone = self.item("=notice.wav").output
        (self.source / "b" / "=notice.wav").unlink()
        self.scan()
        self.assertEqual(keep_what_is_due(), 1)
        self.assertEqual(keep_what_is_due(), 0, "a batch of it is under way")
        self.work()
        batch = Batch.objects.latest("pk")
        self.assertEqual((batch.in_step_id, batch.counts), (kept.pk, {"done": 2}))
        now = {path: path.stat().st_mtime_ns for path in Path(self.batch.destination).rglob("*.flac")}
        self.assertEqual(len(now), 3)
        self.assertEqual([path.name for path in made if now[path] == made[path]], ["=notice.flac"])
        kept.refresh_from_db()
        self.assertEqual(kept.gone, [gone])
        self.assertNotIn("Keep in sync...", self.page(reverse("batches:batch", args=[self.batch.pk])))
        # What fails is tried once, and again when its file changes.
        whole = write_sound(self.source / "d" / "cut.flac", 200_000, seed=8).read_bytes()
        (self.source / "d" / "cut.flac").write_bytes(whole[: len(whole) // 2])
        for content, started in ((b"", 1), (b"", 0), (whole, 1), (b"", 0)):
            if content:
                (self.source / "d" / "cut.flac").write_bytes(content)
            self.scan()
            self.assertEqual(keep_what_is_due(), started)
            self.work()
        self.assertEqual([batch.counts for batch in kept.batches.order_by("-pk")[:2]], [{"done": 1}, {"in part": 1}])
        self.assertIn("1 result without original", self.page(reverse("batches:index")))
        self.press("keep-no-more", pk=kept.pk)
        self.assertEqual(
            (KeptInStep.objects.count(), len(now) + 1), (0, len(list(Path(batch.destination).rglob("*.flac"))))
        )

    def test_what_was_away_for_a_while_is_made_and_what_cannot_be_is_counted_and_named(self) -> None:
        self.press("keep", covers="all")
        kept = KeptInStep.objects.get()
        KeptInStep.objects.update(looked_at=timezone.now())
        away = write_sound(self.source / "d" / "late.wav", 90_000, seed=7)
        bad = write_sound(self.source / "d" / "bad.flac", 90_000, seed=7)
        whole = bad.read_bytes()
        bad.write_bytes(whole[: len(whole) // 2])
        self.scan()
        self.assertEqual(keep_what_is_due(), 1)
        # Moved off before its turn comes, and back afterwards, unchanged.
        away.rename(self.folder / "late.wav")
        self.work()
        batch = Batch.objects.latest("pk")
        late = batch.items.get(source__endswith="late.wav")
        self.assertEqual((late.state, late.may_pass), (Item.State.FAILED, True), late.error)
        (self.folder / "late.wav").rename(away)
        self.scan()
        self.press("step", pk=kept.pk)
        batch = Batch.objects.latest("pk")
        self.assertEqual([item.source.rpartition("/")[2] for item in batch.items.all()], ["late.wav"])
        self.assertEqual(batch.items.get().state, Item.State.DONE)
        self.assertIn("is in sync", self.press("step", pk=kept.pk))
        kept.refresh_from_db()
        self.assertEqual([each["name"] for each in kept.lacking], ["d/bad.flac"])
        self.assertIn("1 file not converted", self.page(reverse("batches:index")))

    def test_it_is_asked_what_is_kept_and_nothing_else_is_converted(self) -> None:
        write_sound(self.source / "a" / "more.wav", 50_000, seed=11)
        write_sound(self.source / "z" / "far.wav", 50_000, seed=12)
        self.scan()
        page = self.page(reverse("batches:keep-choice", args=[self.batch.pk]))
        rows = re.findall(r'for="covers-(\w+)">.*?<td class="num">(\d+)</td>', page, re.DOTALL)
        self.assertEqual(rows, [("tracks", "2"), ("folders", "3"), ("all", "4")])
        self.assertIn("Choose which files", self.press("keep", covers="moon"))
        for covers, made in (("tracks", set()), ("folders", {"more.wav"}), ("all", {"far.wav"})):
            self.assertIn("kept in sync: after each scan", self.press("keep", covers=covers))
            before = Batch.objects.latest("pk").pk
            self.press("step", pk=KeptInStep.objects.get(covers=covers).pk)
            self.work()
            items = Item.objects.filter(batch__gt=before)
            self.assertEqual({item.source.rpartition("/")[2] for item in items}, made, covers)

    def test_other_sound_of_the_same_size_and_time_is_found(self) -> None:
        self.press("keep", covers="all")
        kept = KeptInStep.objects.get()
        source = self.source / "a" / "peal.wav"
        before, data = source.stat(), bytearray(source.read_bytes())
        data[len(data) // 2] ^= 0x55
        source.write_bytes(data)
        os.utime(source, ns=(before.st_atime_ns, before.st_mtime_ns))
        self.press("step", pk=kept.pk)
        self.work()
        batch = Batch.objects.latest("pk")
        self.assertEqual([item.source.rpartition("/")[2] for item in batch.items.all()], ["peal.wav"])
        made = inspect_file(Path(self.item("peal.wav").output))
        self.assertEqual(made.samples, inspect_file(source).samples)
        source.chmod(0o600)
        self.assertIn("is in sync", self.press("step", pk=kept.pk), "its rights are no sound")

    def test_by_digest_even_what_no_time_tells_is_found_when_it_is_due(self) -> None:
        self.press("keep", covers="all")
        kept = KeptInStep.objects.get()
        self.press("digest-days", pk=kept.pk, days="7")
        self.assertIn("is in sync", self.press("step", pk=kept.pk))
        source = self.source / "a" / "peal.wav"
        data = bytearray(source.read_bytes())
        before = source.stat()
        data[len(data) // 2] ^= 0x55
        source.write_bytes(data)
        os.utime(source, ns=(before.st_atime_ns, before.st_mtime_ns))
        with mock.patch.object(ResultLedger, "_has_same_source", lambda ledger, entry: entry.source_ns > 0):
            self.assertIn("is in sync", self.press("step", pk=kept.pk), "not due yet")
            KeptInStep.objects.update(digested_at=timezone.now() - timedelta(days=8))
            self.press("step", pk=kept.pk)
        self.work()
        self.assertEqual(Batch.objects.latest("pk").items.get().source, str(source))

    def test_a_renamed_original_takes_its_result_along(self) -> None:
        self.press("keep", covers="all")
        kept = KeptInStep.objects.get()
        result = Path(self.item("peal.wav").output)
        inode = result.stat().st_ino
        (self.source / "a" / "peal.wav").rename(self.source / "a" / "Great peal.wav")
        self.scan()
        self.assertIn("is in sync", self.press("step", pk=kept.pk))
        self.assertFalse(result.exists())
        self.assertEqual(result.with_name("Great peal.flac").stat().st_ino, inode)
        self.assertIn("is in sync", self.press("step", pk=kept.pk))
        kept.refresh_from_db()
        self.assertEqual(kept.gone, [])

    def test_a_batch_of_two_folders_stands_for_none(self) -> None:
        Track.objects.filter(relative="a/peal.wav").update(
            folder=SourceFolder.objects.create(path=str(self.source / "a"))
        )
        self.assertIn("several source folders", self.press("keep", covers="all"))


class TurnTests(EndedCase):
    def test_one_at_a_time_and_the_first_is_the_one_that_was_put_first(self) -> None:
        one, two, three = (self.batch_of(target) for target in ("car-mp3", "disc-wav", "open-opus"))
        order: list[tuple[str, int]] = []

        def noted(desk, batch_id):  # type: ignore[no-untyped-def]
            order.append(("begins", batch_id))
            run_next()
            order.append(("ends", batch_id))
            return "done"

        self.assertTrue(put_first(job=three.job))
        with self.kind_run(noted):
            for _ in range(3):
                run_next()
        turns = [(word, batch.pk) for batch in (three, one, two) for word in ("begins", "ends")]
        self.assertEqual(order, turns, "while one runs, no other begins")
        self.assertFalse(put_first(job=three.job), "it has ended")

    def kind_run(self, run):  # type: ignore[no-untyped-def]
        from dataclasses import replace

        from rumbrel.web.jobs import registry

        return mock.patch.dict(registry._KINDS, {"batch": replace(registry.kind_for("batch"), run=run)})

    def test_paused_it_begins_nothing_yet_what_is_finished_shows_and_then_it_goes_on(self) -> None:
        batch = self.batch_of("car-mp3")
        seen: list[tuple[str, int, int]] = []

        def one_by_one(plan, *, jobs, ledger, holds, carrier):  # type: ignore[no-untyped-def]
            asked = []

            def paused_at_the_second() -> bool:
                asked.append(1)
                if len(asked) == 2:
                    self.assertTrue(pause_job(job=batch.job))
                return holds()

            for event in run_plan(plan, jobs=1, ledger=ledger, holds=paused_at_the_second, carrier=carrier):
                yield event
                job = Job.objects.get(pk=batch.job_id)
                done, waiting = (batch.items.filter(state=state).count() for state in ("done", "waiting"))
                seen.append((job.shown_state, done, waiting))
                if seen[-4:] == [("paused", 1, 1)] * 4:
                    unpause_job(job=batch.job)

        with mock.patch("rumbrel.web.batches.services.run_batch.run_plan", one_by_one):
            with mock.patch("rumbrel.web.jobs.services.run_job.SECONDS_BETWEEN_NOTES", 0):
                self.work()
        batch.job.refresh_from_db()
        self.assertEqual((batch.job.state, seen[-1][1:]), ("done", (2, 0)))
        self.assertIn(("paused", 1, 1), seen, "the finished file shows while nothing is begun")
        self.assertFalse(pause_job(job=batch.job), "it has ended")

    def test_the_buttons_of_each_state(self) -> None:
        batch = self.batch_of("car-mp3")
        address = reverse("batches:batch", args=[batch.pk])
        self.assert_all_in(("Move to front", "Stop the batch"), self.page(address))
        self.assertIn(
            "This batch is the next",
            self.client.post(reverse("batches:first", args=[batch.pk]), follow=True).content.decode(),
        )
        Job.objects.filter(pk=batch.job_id).update(state="running")
        self.assertIn(">Pause<", self.page(address))
        self.client.post(reverse("batches:pause", args=[batch.pk]))
        self.assert_all_in((">Continue<", "nothing new begins"), self.page(address))
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.assertIn(">Pause<", self.page(address))
