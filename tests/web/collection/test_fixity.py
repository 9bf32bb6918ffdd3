"""Fixity: one flipped bit is found, what changed is told apart, lists of checksums agree with another program's."""

import datetime
import os
import re
import subprocess
from pathlib import Path
from unittest import mock

import bagit
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from django.utils import timezone

from rumbrel.core.tags import TagSet, write_tags
from rumbrel.core.tags.wishes import TagWish
from rumbrel.core.workflows.fixity import ManifestError, manifest_line, read_manifest
from rumbrel.web.collection.fixity_days import fixity_days
from rumbrel.web.collection.models import Fixity, FixityEvent, FixityWork, SourceFolder, Track
from rumbrel.web.collection.services import look_at_watched, start_due_fixity, start_scan
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.registry import regular_actions
from rumbrel.web.jobs.watch import Rounds
from rumbrel.web.tags.services import start_edit
from tests.signals import write_sound
from tests.web.case import WebCase


class FixityCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.paths = [write_sound(self.source / "a" / f"{n} back\\slash.flac", 20_000, seed=n) for n in range(3)]
        self.scan()
        self.folder_row = SourceFolder.objects.get()

    def compare(self, folder: int | str = "") -> str:
        self.client.post(reverse("collection:check-fixity"), {"folder": folder})
        self.work()
        return Job.objects.filter(kind="fixity").latest("pk").message

    def flip(self, path: Path, at: int = -2_000) -> None:
        """As a failing disk does: without a trace in the file's time."""
        status, raw = path.stat(), bytearray(path.read_bytes())
        raw[at] ^= 1
        path.write_bytes(raw)
        os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))

    def state(self, number: int) -> str:
        return Fixity.objects.get(track__relative__startswith=f"a/{number}").state


class CompareTests(FixityCase):
    def test_one_flipped_bit_is_found_and_stays_in_the_history(self) -> None:
        self.assertIn("No digests yet", self.page(reverse("collection:fixity")))
        self.assertEqual(self.compare(), "3 kept.")
        self.assertEqual(self.compare(), "3 unchanged.")
        self.assertIn("No file has changed", self.page(reverse("collection:fixity")))
        self.flip(self.paths[1])
        self.assertEqual(self.compare(self.folder_row.pk), "2 unchanged, 1 sound changed.")
        page = self.page(reverse("collection:fixity"))
        for text in ("sound changed", "Restore it from a copy"):
            self.assertIn(text, page)
        self.flip(self.paths[1])
        self.assertEqual(self.compare(), "3 unchanged.", "brought back")
        track = Track.objects.get(relative__startswith="a/1")
        states = list(FixityEvent.objects.filter(track=track).values_list("state", flat=True))
        self.assertEqual(states, ["unchanged", "sound changed", "kept"])
        self.assertIn("unchanged since", self.page(reverse("collection:track", args=[track.pk])))

    def test_the_last_days_stand_on_a_strip_with_what_they_found(self) -> None:
        self.assertNotIn("fixity-days", self.page(reverse("collection:fixity")))
        today = timezone.localdate()
        for days_ago, counts in (
            (0, {"unchanged": 3}),
            (2, {"unchanged": 2, "sound changed": 1}),
            (90, {"missing": 1}),
        ):
            ended = timezone.now() - datetime.timedelta(days=days_ago)
            job = Job.objects.create(kind="fixity", subject=1, state=Job.State.DONE, ended_at=ended)
            FixityWork.objects.create(job=job, counts=counts)
        days = fixity_days(today)
        self.assertEqual(len(days.marks), 2, "older ones have left the strip")
        self.assertEqual([(mark.alarm, mark.changed) for mark in days.marks], [(True, False), (False, False)])
        self.assertEqual(days.marks[1].x - days.marks[0].x, 2 * 12.0)
        page = self.page(reverse("collection:fixity"))
        self.assert_all_in(
            ("compared on 2 days of the last 60, files had changed on 1", f"{today:%Y-%m-%d}: 3 unchanged"), page
        )

    def test_the_heading_and_the_list_follow_what_a_scan_has_found_since(self) -> None:
        self.compare()
        aside = self.folder / "away.flac"
        self.paths[0].rename(aside)
        self.assert_said("missing")
        self.compare()
        aside.rename(self.paths[0])
        self.assert_said("found again")
        self.compare()
        self.assertIn("3</b> unchanged", self.page(reverse("collection:fixity")))

    def assert_said(self, standing: str) -> None:
        """After a scan one file is said to be so, in the heading and in the list."""
        self.scan()
        page = self.page(reverse("collection:fixity"))
        counts = re.findall(r"<b>(\d)</b> ([a-z ]+)<", page)
        self.assertEqual(sorted(counts), sorted([("2", "unchanged"), ("1", standing)]))
        self.assertEqual(re.findall(r'<td><span class="(?:warn|fail)">([^<]+)</span></td>', page), [standing])

    def test_tags_changed_elsewhere_and_here_missing_and_taken_as_it_is(self) -> None:
        self.compare()
        write_tags(self.paths[0], TagSet(fields={"title": ("Changed elsewhere",)}), container="flac", codec="flac")
        self.paths[1].unlink()
        start_edit(track_ids=[Track.objects.get(relative__startswith="a/2").pk], wish=TagWish(values={"title": "Here"}))
        self.work()
        self.assertEqual(self.compare(), "1 unchanged, 1 tags changed, 1 missing.")
        self.assertEqual([self.state(n) for n in range(3)], ["tags changed", "missing", "unchanged"])
        track = Track.objects.get(relative__startswith="a/0")
        self.client.post(reverse("collection:take-as-it-is", args=[track.pk]))
        self.assertEqual(self.compare(), "2 unchanged, 1 missing.")
        page = self.client.post(reverse("collection:take-as-it-is", args=[track.pk]), follow=True).content.decode()
        self.assertIn("No change", page)
        edited = FixityEvent.objects.filter(track__relative__startswith="a/2").values_list("state", flat=True)
        self.assertEqual(list(edited), ["tags edited here", "kept"])

    def test_an_edit_here_does_not_bless_what_was_broken_before(self) -> None:
        self.compare()
        self.flip(self.paths[0])
        start_edit(track_ids=[Track.objects.get(relative__startswith="a/0").pk], wish=TagWish(values={"title": "Here"}))
        self.work()
        self.assertEqual(self.compare(), "2 unchanged, 1 sound changed.")

    def test_a_stopped_comparison_goes_on_where_it_was(self) -> None:
        self.client.post(reverse("collection:check-fixity"))
        self.client.post(reverse("collection:check-fixity"))
        keep = "rumbrel.web.collection.services.check_fixity._keep"
        with mock.patch(keep, side_effect=[None, OSError("gone")]):
            (job,) = self.work()
        self.assertEqual(job.state, "failed")
        self.client.post(reverse("jobs:continue", args=[job.pk]))
        self.work()
        job.refresh_from_db()
        self.assertEqual((job.state, job.message, job.items), ("done", "3 kept.", 2))


class ListTests(FixityCase):
    def test_another_program_reads_our_list_and_we_read_its(self) -> None:
        """sha256sum of the GNU coreutils, whose manual describes the lines."""
        self.compare()
        answer = self.client.get(reverse("collection:checksums", args=[self.folder_row.pk]))
        text = b"".join(answer.streaming_content).decode()
        listed = self.folder / "list.sha256"
        listed.write_text(text)
        done = subprocess.run(
            ["sha256sum", "-c", str(listed)], cwd=self.source, capture_output=True, text=True, timeout=60
        )
        self.assertEqual((done.returncode, done.stdout.count(": OK")), (0, 3), done.stderr)
        names = [str(path.relative_to(self.source)) for path in self.paths]
        theirs = subprocess.run(
            ["sha256sum", "-b", *names], cwd=self.source, capture_output=True, text=True, check=True, timeout=60
        )
        self.assertEqual(read_manifest(theirs.stdout), read_manifest(text))

    def test_a_list_from_elsewhere_is_compared_with(self) -> None:
        self.compare()
        text = b"".join(
            self.client.get(reverse("collection:checksums", args=[self.folder_row.pk])).streaming_content
        ).decode()
        Fixity.objects.filter(track__relative__startswith="a/0").delete()
        self.flip(self.paths[0])
        lines = text + manifest_line("0" * 64, "somewhere/else.flac")
        lines = lines.replace(Fixity.objects.get(track__relative__startswith="a/2").sha256, "f" * 64)
        sent = {"folder": self.folder_row.pk, "checksums": SimpleUploadedFile("x.sha256", lines.encode())}
        page = self.client.post(reverse("collection:take-checksums"), sent, follow=True).content.decode()
        for words in (
            "1 checksum kept, to be compared",
            "1 the same as kept",
            "1 other than kept",
            "1 name of no track here",
        ):
            self.assertIn(words, page)
        self.assertEqual(self.compare(), "2 unchanged, 1 sound changed.")

    def test_an_edit_here_does_not_bless_what_was_never_compared(self) -> None:
        name = str(self.paths[0].relative_to(self.source))
        lines = manifest_line("0" * 64, name) + manifest_line("1" * 64, f"source/{name}")
        sent = {"folder": self.folder_row.pk, "checksums": SimpleUploadedFile("x.sha256", lines.encode())}
        page = self.client.post(reverse("collection:take-checksums"), sent, follow=True).content.decode()
        self.assertIn("1 checksum kept", page)
        self.assertIn("1 other than kept", page, "one file under two names")
        start_edit(track_ids=[Track.objects.get(relative=name).pk], wish=TagWish(values={"title": "Here"}))
        self.work()
        self.assertEqual(self.compare(), "2 kept, 1 sound changed.")

    def test_names_that_are_no_text_are_listed_as_they_are(self) -> None:
        odd = Path(os.fsdecode(os.fsencode(self.source) + b"/odd \xff.flac"))
        odd.write_bytes(self.paths[0].read_bytes()[:-5])
        start_scan(folder=self.folder_row)
        self.work()
        self.compare()
        answer = self.client.get(reverse("collection:checksums", args=[self.folder_row.pk]))
        listed = self.folder / "list.sha256"
        listed.write_bytes(b"".join(answer.streaming_content))
        done = subprocess.run(["sha256sum", "-c", str(listed)], cwd=self.source, capture_output=True, timeout=60)
        self.assertEqual((done.returncode, done.stdout.count(b": OK")), (0, 4), done.stderr)
        Fixity.objects.all().delete()
        sent = {"folder": self.folder_row.pk, "checksums": SimpleUploadedFile("x", listed.read_bytes())}
        page = self.client.post(reverse("collection:take-checksums"), sent, follow=True).content.decode()
        self.assertIn("4 checksums kept", page)
        self.assertEqual(self.compare(), "4 unchanged.")

    def test_what_is_no_list_is_said(self) -> None:
        for text, words in (
            ("hello", "Line 1 is no SHA-256"),
            ("# nothing\n\n", "no checksums"),
            ("a" * 63 + "  x", "Line 1"),
        ):
            with self.subTest(text=text[:10]), self.assertRaisesRegex(ManifestError, words):
                read_manifest(text)
        self.assertEqual(
            read_manifest(f"{'A' * 64} *./b c\r\n\\{'b' * 64}  d\\\\e\\nf\n"), {"b c": "a" * 64, "d\\e\nf": "b" * 64}
        )
        page = self.client.post(reverse("collection:take-checksums"), follow=True).content.decode()
        self.assertIn("Choose a folder", page)


class RegularTests(FixityCase):
    """What is done now and then, without being asked."""

    def jobs(self, kind: str) -> int:
        return Job.objects.filter(kind=kind).count()

    def test_a_folder_is_compared_when_it_is_due(self) -> None:
        self.assertEqual(start_due_fixity(), 0)
        page = self.client.post(reverse("collection:plan-fixity", args=[self.folder_row.pk]), {"days": 7}, follow=True)
        self.assertIn("is compared every week", page.content.decode())
        self.assertEqual(start_due_fixity(), 1)
        self.work()
        self.assertEqual(start_due_fixity(), 0)
        # The last one may lie far ahead, since the clock was wrong then.
        for days, due in ((6.9, 0), (7.1, 1), (-400, 1)):
            Job.objects.filter(kind="fixity", state="waiting").delete()
            Job.objects.filter(kind="fixity").update(created_at=timezone.now() - datetime.timedelta(days=days))
            self.assertEqual(start_due_fixity(), due, days)
        self.work()
        Job.objects.filter(kind="fixity").update(state="failed")
        self.assertEqual(start_due_fixity(), 0, "it would fail every minute")
        Job.objects.filter(kind="fixity").update(created_at=timezone.now() - datetime.timedelta(days=1.1))
        self.assertEqual(start_due_fixity(), 1, "one that failed is none")
        refused = self.client.post(
            reverse("collection:plan-fixity", args=[self.folder_row.pk]), {"days": 2}, follow=True
        )
        self.assertIn("Choose how often", refused.content.decode())

    def test_a_watched_folder_is_scanned_when_it_has_changed_and_come_to_rest(self) -> None:
        before = self.jobs("scan")
        self.assertEqual(look_at_watched(), 0)
        self.client.post(reverse("collection:watch-folder", args=[self.folder_row.pk]), {"watched": "on"})
        self.assertEqual([look_at_watched() for _ in range(4)], [0, 1, 0, 0])
        new = write_sound(self.source / "new.wav", 9_000)
        self.assertEqual(look_at_watched(), 0, "it may still be written")
        new.write_bytes(new.read_bytes() + bytes(8))
        self.assertEqual([look_at_watched() for _ in range(3)], [0, 1, 0])
        self.work()
        self.assertTrue(Track.objects.filter(relative="new.wav").exists())
        self.source.rename(self.source.with_name("elsewhere"))
        self.assertEqual([look_at_watched() for _ in range(3)], [0, 0, 0], "a disk that is not connected")
        self.source.with_name("elsewhere").rename(self.source)
        self.client.post(reverse("collection:watch-folder", args=[self.folder_row.pk]))
        new.unlink()
        self.assertEqual([look_at_watched() for _ in range(3)], [0, 0, 0])
        self.assertGreater(self.jobs("scan"), before)

    def test_a_round_goes_on_when_one_of_its_actions_fails(self) -> None:
        done: list[int] = []

        def fails() -> None:
            raise OSError("no")

        with mock.patch("rumbrel.web.jobs.watch.regular_actions", lambda: (fails, lambda: done.append(1))):
            with self.assertLogs("rumbrel.web.jobs.watch", "WARNING"):
                Rounds().go_round()
        self.assertEqual(done, [1])
        self.assertEqual(
            {each.__name__ for each in regular_actions()},
            {
                "look_at_watched",
                "start_due_fixity",
                "start_due_backup",
                "start_due_self_check",
                "keep_what_is_due",
                "keep_within_limits",
            },
        )


class HandOverTests(FixityCase):
    def make(self, **asked: object) -> Job:
        self.client.post(reverse("collection:make-bag"), asked)
        self.work()
        return Job.objects.filter(kind="bag").latest("pk")

    def test_pulled_tracks_or_a_folder_become_a_bag_that_fixity_agrees_with(self) -> None:
        self.compare()
        job = self.make(name="Peals: 1", folder=self.folder_row.pk, description="For the library")
        place = settings.RUMBREL.results / "bags"
        (bag,) = place.iterdir()
        self.assertEqual((job.state, job.message), ("done", f"3 files in {bag}, 3 of them as fixity keeps them."))
        bagit.Bag(str(bag)).validate()
        self.assertIn(str(bag), self.page(reverse("collection:fixity")))
        # The bag's own list is known again as a list of checksums.
        listed = SimpleUploadedFile("m.txt", (bag / "manifest-sha256.txt").read_bytes())
        sent = {"folder": self.folder_row.pk, "checksums": listed}
        page = self.client.post(reverse("collection:take-checksums"), sent, follow=True).content.decode()
        self.assertIn("3 the same as kept", page)
        again = self.client.post(
            reverse("collection:make-bag"), {"name": "Peals: 1", "folder": self.folder_row.pk}, follow=True
        )
        self.assertIn("is there already", again.content.decode())
        for name in ("..", " . ", "/"):
            odd = self.client.post(
                reverse("collection:make-bag"), {"name": name, "folder": self.folder_row.pk}, follow=True
            )
            self.assertRegex(odd.content.decode(), "cannot be called|Give the bag a name")
        self.assertEqual(list(place.iterdir()), [bag])
        nothing = self.client.post(reverse("collection:make-bag"), {"name": "Other"}, follow=True)
        self.assertIn("no track to put into a bag", nothing.content.decode())

    def test_a_file_that_changed_since_it_was_kept_makes_no_bag(self) -> None:
        self.compare()
        self.flip(self.paths[1])
        self.pull_all()
        job = self.make(name="Peals")
        self.assertEqual(job.state, "failed")
        self.assertIn("not what was kept of it", job.error)
        self.assertEqual(list((settings.RUMBREL.results / "bags").iterdir()), [])
        Track.objects.filter(relative__contains="2 back").update(missing_since=timezone.now())
        self.assertIn("1 file not there", self.make(name="Peals").error)
