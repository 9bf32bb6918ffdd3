"""Batches: from forecast to report, through stops, kills and odd sources; the same as the command makes."""

import hashlib
import io
import json
import os
import re
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
from django.conf import settings
from django.core.management import call_command
from django.urls import reverse

from rumbrel.core.conversion.levelling import measure
from rumbrel.core.delivery import Delivered
from rumbrel.core.errors import Cancelled, TargetError
from rumbrel.core.files import working_path
from rumbrel.core.forecast import WhenPresent, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import volume_at, volume_kind_for
from rumbrel.core.sound.level import LevelMeter
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.targets import all_targets, find_target
from rumbrel.core.workflows.convert import LevelWish
from rumbrel.core.workflows.deliver import deliver, plan_delivery
from rumbrel.core.workflows.fixity import read_manifest
from rumbrel.web.batches.models import Batch, Item
from rumbrel.web.batches.services import forecast_tracks, start_batch
from rumbrel.web.batches.steps import kept_step, restored_step
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import known_tracks, pulled_ids
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import stop_job
from tests.marks import slow
from tests.signals import decoded, leftovers, music, write_film, write_sound
from tests.web.case import WebCase


class BatchCase(WebCase):
    def start(self, target: str = "archive-flac", when: WhenPresent = WhenPresent.SKIP) -> Batch:
        self.pull_all()
        wish = BatchWish(targets=(find_target(target),), when_present=when)
        return start_batch(track_ids=pulled_ids(), wish=wish)

    def run_batch(self, target: str = "archive-flac", when: WhenPresent = WhenPresent.SKIP) -> Batch:
        batch = self.start(target, when)
        self.work()
        return Batch.objects.select_related("job").get(pk=batch.pk)

    def item(self, name: str) -> Item:
        return Item.objects.filter(source__endswith=name).latest("pk")


class ForecastTests(BatchCase):
    def test_level_and_limiter_of_the_sentence_are_those_of_the_batch(self) -> None:
        self.gather()
        self.pull_all()
        address = reverse("batches:forecast")
        self.assertNotIn('name="peaks" id', self.page(address, target="car-mp3", peaks="limit"))
        page = self.page(address, target="car-mp3", level="track", peaks="limit")
        self.assertIn("peaks are limited where the loudness asks for it", page)
        for asked, kept in (
            ({"level": "track", "peaks": "limit"}, LevelWish(mode="track", limits=True)),
            ({"level": "album"}, LevelWish(mode="album")),
            ({"level": "none", "peaks": "limit"}, LevelWish(mode="none")),
            ({"level": "louder"}, LevelWish()),
        ):
            with self.subTest(asked=asked):
                sent = dict(re.findall(r'<input type="hidden" name="(level|peaks)" value="([^"]*)"', page))
                self.assertEqual(sent, {"level": "track", "peaks": "limit"}, "the button sends what the sentence says")
                self.client.post(reverse("batches:start"), {"target": "car-mp3", **asked})
                batch = Batch.objects.latest("pk")
                self.assertEqual(BatchWish.restored(batch.targets, batch.options).level, kept)
                batch.job.delete()

    def test_no_request_opens_a_sound_file(self) -> None:
        self.gather()
        self.pull_all()
        opened = AssertionError("a request opened a sound file")
        with (
            mock.patch("rumbrel.core.inspection.inspect.inspect_file", side_effect=opened),
            mock.patch("rumbrel.core.sound.decoding.open_sound", side_effect=opened),
            mock.patch("av.open", side_effect=opened),
            mock.patch("soundfile.SoundFile", side_effect=opened),
        ):
            for target in all_targets():
                self.page(reverse("batches:forecast"), target=target.slug)
            self.client.post(reverse("batches:start"), {"target": "car-mp3"})
        self.assertEqual(Batch.objects.count(), 1)

    def test_what_happens_and_warnings_stand_in_each_line(self) -> None:
        write_film(self.source / "film.mp4", seconds=3)
        for number in range(4):
            write_sound(self.source / f"{number}.wav", 60_000, seed=number + 1)
        self.scan()
        self.pull_all()
        page = self.page(reverse("batches:forecast"), target="radio-mp3")
        self.assert_all_in(("Coded lossily a second time.", "<b>5</b> convert", "MB now"), page)
        self.assertEqual(page.count("the station takes MP3 only"), 1, "said once for all lines that share it")
        self.assert_all_in(("−19 LUFS", "measured first"), self.page(reverse("batches:forecast"), target="course"))

    def test_it_is_made_anew_when_the_list_or_the_destination_changes(self) -> None:
        self.gather()
        self.pull_all()
        wish = BatchWish(targets=(find_target("archive-flac"),))
        first = forecast_tracks(wish=wish)
        self.assertIs(forecast_tracks(wish=wish), first)
        self.client.post(reverse("collection:pull", args=[Track.objects.first().pk]))
        second = forecast_tracks(wish=wish)
        self.assertEqual(len(second.steps), 2)
        self.run_batch()
        self.client.post(reverse("collection:clear-pull"))
        self.client.post(reverse("collection:undo-clear"))
        actions = [str(step.action) for step in forecast_tracks(wish=wish).steps]
        self.assertEqual(sorted(actions), ["refuse", "skip", "skip"])

    def test_a_step_comes_back_from_the_database_as_it_was(self) -> None:
        write_film(self.source / "film.mp4", seconds=2)
        self.gather()
        self.pull_all()
        for target in all_targets():
            for step in forecast_tracks(wish=BatchWish(targets=(target,))).steps:
                self.assertEqual(restored_step(kept_step(step), target), step, (target.slug, step.source.path))

    def test_empty_and_unknown(self) -> None:
        self.assertIn("The pull list is empty", self.page(reverse("batches:forecast")))
        for address, values in (("batches:start", {"target": "car-mp3"}), ("batches:start", {"target": "nowhere"})):
            page = self.client.post(reverse(address), values, follow=True).content.decode()
            self.assertRegex(page, "The pull list is empty|There is no target")
        page = self.client.get(reverse("batches:forecast"), {"target": "nowhere"}, follow=True).content.decode()
        self.assertIn("There is no target", page)
        self.assertEqual(Batch.objects.count(), 0)


class RunTests(BatchCase):
    def test_from_forecast_to_download(self) -> None:
        self.gather()
        batch = self.run_batch()
        self.assertEqual((batch.job.state, batch.counts), ("done", {"done": 2, "cannot": 1}))
        self.assertEqual(batch.job.message, f"2 results in {batch.destination}; 1 cannot.")
        exact = self.item(".wav")
        self.assertEqual((exact.state, exact.checked, exact.bit_exact, exact.share), ("done", True, True, 1.0))
        self.assertEqual((exact.samples_in, exact.samples_out, len(exact.digest)), (260_000, 260_000, 32))
        self.assertIn(f"Every sample is the source's; digest {exact.digest}", exact.proof)
        self.assertTrue(Path(exact.output).is_relative_to(settings.RUMBREL.results))
        self.assertEqual(batch.bytes_out, sum(os.stat(i.output).st_size for i in batch.items.filter(state="done")))
        sent = b"".join(self.client.get(reverse("batches:download", args=[exact.pk])).streaming_content)
        self.assertEqual(sent, Path(exact.output).read_bytes())
        page = self.page(reverse("batches:batch", args=[batch.pk]))
        self.assert_all_in(("bit-exact", "cannot", "has no content", batch.destination), page)
        self.assertNotIn("every 1s", page)
        self.assertEqual(self.page(reverse("batches:batch", args=[batch.pk]), state="cannot").count("<tr data-row"), 1)
        self.assertRegex(self.page(reverse("batches:index")), r"2 done, 1 cannot|1 cannot, 2 done")
        self.assertIn("Lossless archive, FLAC", self.page(reverse("batches:index")))
        self.assertEqual(leftovers(self.folder), [])

    def test_the_archive_holds_every_result_also_very_old_ones(self) -> None:
        self.gather()
        batch = self.run_batch()
        old = Path(self.item(".wav").output)
        os.utime(old, (0, 0))
        raw = b"".join(self.client.get(reverse("batches:download-all", args=[batch.pk])).streaming_content)
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            self.assertIsNone(archive.testzip())
            names = [name for name in archive.namelist() if name != "digests.sha256"]
            results = {name: Path(batch.destination, name).read_bytes() for name in names}
            self.assertEqual(len(results), 2)
            digests = {name: hashlib.sha256(content).hexdigest() for name, content in results.items()}
            self.assertEqual(read_manifest(archive.read("digests.sha256").decode()), digests)
            for name, content in results.items():
                self.assertEqual(archive.read(name), content)

    def test_the_worker_does_what_was_planned_and_says_when_the_file_changed(self) -> None:
        self.gather()
        batch = self.start()
        with mock.patch("rumbrel.web.batches.services.run_batch._run"):
            self.work()
        write_sound(self.source / "notice 🔔.wav", 9_000)
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.work()
        self.assertEqual(self.item("peal <b>.flac").state, "done")
        changed = self.item(".wav")
        self.assertEqual(changed.state, "failed")
        self.assertIn("changed after the forecast", changed.error)

    def test_stopped_and_continued(self) -> None:
        self.gather()
        batch = self.start()

        def stopping(*args: object, **more: object) -> None:
            stop_job(job=Job.objects.get(kind="batch"))
            raise Cancelled("Stopped.")

        with mock.patch("rumbrel.web.batches.services.run_batch._run", side_effect=stopping):
            self.work()
        batch.refresh_from_db()
        self.assertEqual((batch.job.state, batch.counts["waiting"]), ("stopped", 2))
        page = self.page(reverse("batches:batch", args=[batch.pk]))
        self.assertIn(">Continue<", page)
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.work()
        batch.refresh_from_db()
        self.assertEqual((batch.job.state, batch.counts), ("done", {"done": 2, "cannot": 1}))

    def test_a_target_that_is_gone_changes_nothing_about_an_old_batch(self) -> None:
        self.gather()
        batch = self.start()
        with (
            mock.patch("rumbrel.core.targets.catalogue.find_target", side_effect=TargetError("There is no target.")),
            mock.patch("rumbrel.core.targets.catalogue.all_targets", return_value=()),
        ):
            self.work()
            self.assertIn("Lossless archive, FLAC", self.page(reverse("batches:index")))
            self.assertIn("Lossless archive, FLAC", self.page(reverse("batches:batch", args=[batch.pk])))
        batch.refresh_from_db()
        self.assertEqual(batch.counts, {"done": 2, "cannot": 1})

    def test_a_name_that_no_coding_can_read_is_converted_like_any_other(self) -> None:
        whole = write_sound(self.folder / "x.wav").read_bytes()
        name = os.path.join(os.fsencode(self.source), b"tape \xff.wav")
        with open(name, "wb") as file:
            file.write(whole)
        self.scan()
        batch = self.run_batch()
        self.assertEqual(batch.counts, {"done": 1}, self.item(".wav").error)
        self.assertEqual(len(list(Path(batch.destination).rglob("*.flac"))), 1)
        self.page(reverse("batches:batch", args=[batch.pk]))
        raw = b"".join(self.client.get(reverse("batches:download-all", args=[batch.pk])).streaming_content)
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            self.assertEqual((archive.testzip(), archive.namelist()), (None, ["source/tape ?.flac", "digests.sha256"]))
        self.assertEqual(self.client.get(reverse("batches:download", args=[self.item(".wav").pk])).status_code, 200)

    def test_a_second_press_makes_no_second_batch(self) -> None:
        self.gather()
        first = self.start()
        self.assertEqual(self.start().pk, first.pk)
        self.assertNotEqual(self.start(when=WhenPresent.NUMBER).pk, first.pk)
        self.work()
        self.assertNotEqual(self.start().pk, first.pk)

    def test_a_result_of_its_own_that_nobody_heard_of_is_known(self) -> None:
        """A kill between a result's getting its name and the note of it."""
        self.gather()
        batch = self.start()
        with mock.patch("rumbrel.web.batches.services.run_batch._keep"):
            self.work()
        batch.refresh_from_db()
        self.assertEqual(batch.counts, {"waiting": 2, "cannot": 1})
        made = {path: path.stat().st_mtime_ns for path in Path(batch.destination).rglob("*.flac")}
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.work()
        batch.refresh_from_db()
        self.assertEqual(batch.counts, {"done": 2, "cannot": 1})
        self.assertEqual({path: path.stat().st_mtime_ns for path in made}, made)
        item = self.item(".wav")
        self.assertTrue(item.checked and item.bit_exact and item.bytes_out and item.kbps_out)

    def test_a_file_of_another_that_appeared_is_kept_and_named(self) -> None:
        self.gather()
        batch = self.start()
        with mock.patch("rumbrel.web.batches.services.run_batch._run"):
            self.work()
        output = Path(self.item(".wav").output)
        output.parent.mkdir(parents=True)
        output.write_bytes(b"another's")
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.work()
        self.assertIn("appeared in the meantime and is kept", self.item(".wav").error)
        self.assertEqual(output.read_bytes(), b"another's")

    def test_what_a_killed_worker_left_is_swept_and_done_again(self) -> None:
        self.gather()
        batch = self.start()
        with mock.patch("rumbrel.web.batches.services.run_batch._run"):
            self.work()
        item = self.item(".wav")
        Item.objects.filter(pk=item.pk).update(state="running", share=0.5)
        left = working_path(Path(item.output))
        left.parent.mkdir(parents=True)
        left.write_bytes(b"half")
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.work()
        self.assertEqual(self.item(".wav").state, "done")
        self.assertFalse(left.exists())

    def test_in_part_is_no_failure_and_its_result_can_be_had(self) -> None:
        whole = write_sound(self.source / "cut.flac", 400_000).read_bytes()
        (self.source / "cut.flac").write_bytes(whole[: len(whole) // 2])
        self.scan()
        batch = self.run_batch("car-mp3")
        item = self.item("cut.flac")
        self.assertEqual((item.state, item.checked, batch.counts), ("in part", True, {"in part": 1}))
        self.assertIn("Only a part", item.error)
        self.assertEqual(self.client.get(reverse("batches:download", args=[item.pk])).status_code, 200)
        codes = [warning["code"] for warning in item.warnings]
        self.assertEqual(codes.count("cut-short"), 1, "what was foreseen stays, and is not said twice")

    def test_failed_items_are_tried_again_and_others_left_alone(self) -> None:
        self.gather()
        batch = self.run_batch()
        done = Path(self.item(".wav").output)
        before = done.stat().st_mtime_ns
        Path(self.item("peal <b>.flac").output).unlink()
        Item.objects.filter(source__endswith="peal <b>.flac").update(state="failed", error="The disk was full.")
        batch.counts = {"done": 1, "failed": 1, "cannot": 1}
        batch.save()
        self.assertIn("Retry failed", self.page(reverse("batches:batch", args=[batch.pk])))
        self.client.post(reverse("batches:continue", args=[batch.pk]))
        self.work()
        self.assertEqual((self.item("peal <b>.flac").state, self.item("peal <b>.flac").error), ("done", ""))
        self.assertEqual(done.stat().st_mtime_ns, before)

    def test_progress_sends_what_changed_since_a_cursor(self) -> None:
        self.gather()
        batch = self.run_batch()
        Job.objects.filter(pk=batch.job_id).update(state="running")
        address = reverse("batches:progress", args=[batch.pk])
        everything = self.fragment(address, since=0, first=1, last=3)
        self.assertEqual(everything.count("hx-swap-oob"), 3)
        self.assertIn("every 1s", everything)
        cursor = max(batch.items.values_list("changed", flat=True))
        self.assertEqual(self.fragment(address, since=cursor, first=1, last=3).count("hx-swap-oob"), 0)
        self.assertEqual(self.fragment(address, since=0, first=2, last=2).count("hx-swap-oob"), 1)
        self.assertEqual(self.client.get(address, {"since": "²", "first": "-1"}).status_code, 200)

    def test_a_page_opened_before_the_lines_were_there_is_loaded_anew(self) -> None:
        self.gather()
        batch = self.start()
        progress = reverse("batches:progress", args=[batch.pk])
        page = self.page(reverse("batches:batch", args=[batch.pk]))
        self.assertIn(f"{progress}?since=0&amp;first=0&amp;last=0", page)
        self.assertNotIn("HX-Refresh", self.client.get(progress, {"last": 0}).headers)
        self.work()
        self.assertEqual(self.client.get(progress, {"last": 0}).headers["HX-Refresh"], "true")
        self.assertNotIn("HX-Refresh", self.client.get(progress, {"first": 1, "last": 3}).headers)
        self.assertNotIn("HX-Refresh", self.client.get(progress, {"last": 0, "state": "waiting"}).headers)

    def test_a_batch_keeps_its_target_when_the_catalogue_loses_it(self) -> None:
        self.gather()
        batch = self.start()
        self.assertEqual(BatchWish.restored(batch.targets, batch.options).targets, (find_target("archive-flac"),))
        with mock.patch("rumbrel.core.targets.catalogue.all_targets", return_value=()):
            self.work()
            page = self.page(reverse("batches:index"))
        self.assertIn("Lossless archive, FLAC", page)
        self.assertEqual(self.item(".wav").state, "done")


class LevelTests(BatchCase):
    def album(self, count: int) -> None:
        for number in range(count):
            sound = music(44_100 * 4, seed=number + 1) * (0.1 + 0.1 * number)
            write_sound(self.source / "album" / f"{number}.wav", sound=sound)
        self.scan()

    @slow
    def test_a_target_that_sets_the_level_sets_it(self) -> None:
        self.album(2)
        self.run_batch("course")
        for name in ("0.wav", "1.wav"):
            item = self.item(name)
            self.assertEqual(item.state, "done", item.error)
            self.assertTrue(item.output.endswith(".mp3"), "what would play is made anew, since its level changes")
            meter = LevelMeter(SoundShape(sample_rate=44_100, channels=1, depth_bits=0))
            meter.push(decoded(Path(item.output)) / 2**31)
            self.assertAlmostEqual(meter.level().integrated_lufs, -19, delta=0.5)

    @slow
    def test_an_album_is_measured_once_also_when_the_batch_goes_on(self) -> None:
        self.album(7)
        self.pull_all()
        wish = BatchWish(targets=(find_target("disc-wav"),), level=LevelWish(mode="album"))
        batch = start_batch(track_ids=pulled_ids(), wish=wish)
        measured: list[str] = []

        def counting(facts, channels, *, tell):  # type: ignore[no-untyped-def]
            measured.append(facts.path)
            return measure(facts, channels, tell=tell)

        with (
            mock.patch("rumbrel.core.conversion.levelling.measure", counting),
            mock.patch("rumbrel.core.conversion.levelling.Crew", _InlineCrew),
        ):
            with mock.patch("rumbrel.web.batches.services.run_batch._run"):
                self.work()
            self.client.post(reverse("batches:continue", args=[batch.pk]))
            self.work()
        self.assertEqual(len(measured), 7)
        self.assertEqual(Batch.objects.get(pk=batch.pk).counts, {"done": 7})


class _InlineCrew:
    """Does what a crew does in this process, so that calls can be counted."""

    def __init__(self, work, tasks, *, jobs, lost, holds) -> None:  # type: ignore[no-untyped-def]
        self._work, self._tasks = work, tasks

    def __enter__(self) -> "_InlineCrew":
        return self

    def __exit__(self, *error: object) -> None:
        return None

    def shares(self) -> list[float]:
        return [1.0] * len(self._tasks)

    def results(self):  # type: ignore[no-untyped-def]
        from rumbrel.core.crew import Finished

        for number, task in enumerate(self._tasks):
            yield Finished(number, self._work(task, lambda share: None))


class SameAsCommandTests(BatchCase):
    @slow
    def test_web_and_command_make_the_same_files_and_say_the_same(self) -> None:
        write_film(self.source / "film.mp4", seconds=3)
        write_sound(self.source / "a" / "x.wav", 100_000)
        write_sound(self.source / "a" / "x.flac", 100_000, seed=2)
        (self.source / "empty.mp3").touch()
        self.scan()
        for target in ("pocket-aac", "car-mp3", "disc-wav", "course"):
            batch = self.run_batch(target)
            out, said = self.folder / "by-command" / target, io.StringIO()
            try:
                call_command("convert", "--json", "--target", target, "--out", str(out), str(self.source), stdout=said)
            except SystemExit as end:
                self.assertEqual(end.code, 1, "the empty file")
            records = {r["source"]: r for r in map(json.loads, said.getvalue().splitlines())}
            self.assertEqual(len(records), 4)
            for item in batch.items.all():
                record = records[item.source]
                self.assertEqual(
                    (item.action, item.checked, item.error or None),
                    (record["action"], record["checked"], record["error"]),
                )
                self.assertEqual(item.warnings, record["warnings"], (target, item.source))
                if item.output:
                    below = Path(item.output).relative_to(Path(batch.destination, self.source.name))
                    self.assertEqual(below, Path(record["output"]).relative_to(out))
                    np.testing.assert_array_equal(decoded(Path(item.output)), decoded(Path(record["output"])))
                    self.assertEqual(inspect_file(Path(item.output)).tags, inspect_file(Path(record["output"])).tags)

    @slow
    def test_a_delivery_from_kept_facts_is_that_of_the_command(self) -> None:
        """What screens hand to the workflow is what the collection keeps; commands look at the files."""
        write_film(self.source / "film.mp4", seconds=3)
        write_sound(self.source / "a" / "x?.wav", 100_000)
        write_sound(self.source / "a" / "y.flac", 100_000, seed=2)
        self.scan()
        known = known_tracks(list(Track.objects.values_list("pk", flat=True)))
        facts = {Path(track.facts.path): track.facts for track in known if track.facts}
        for slug in ("pocket-aac", "car-mp3"):
            sticks = [self.folder / f"{slug}-{maker}" for maker in ("web", "command")]
            for stick in sticks:
                stick.mkdir()
            said = io.StringIO()
            call_command(
                "deliver", "--json", "--target", slug, "--volume", str(sticks[1]), "--volume-kind", "stick-8gb",
                str(self.source), stdout=said,
            )  # fmt: skip
            records = [json.loads(line) for line in said.getvalue().splitlines()]
            sources = gather_sources([self.source])
            volume = volume_at(sticks[0], volume_kind_for("stick-8gb"))
            plan = plan_delivery(sources, find_target(slug), volume, inspect=facts.__getitem__)
            results = list(deliver(plan, self.folder / f"{slug}-work", jobs=1))
            self.assertEqual(len(results), 3)
            for result, record in zip(results, records, strict=True):
                assert isinstance(result, Delivered)
                self.assertTrue(result.ok and record["ok"], record)
                self.assertEqual(result.step.action, record["action"])
                ours, theirs = Path(result.output), Path(record["output"])
                self.assertEqual(ours.relative_to(sticks[0]), theirs.relative_to(sticks[1]))
                np.testing.assert_array_equal(decoded(ours), decoded(theirs))
                self.assertEqual(inspect_file(ours).tags, inspect_file(theirs).tags)
