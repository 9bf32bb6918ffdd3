"""A disc in a drive, or one that was taken in, becomes another one by a press: identical, or nothing is called so."""

from pathlib import Path
from unittest import mock

from django.urls import reverse

from rumbrel.core.errors import DiscError
from rumbrel.web.bench.services import discs_on_shelf
from rumbrel.web.discs.models import DiscCopy, Recorder
from rumbrel.web.jobs.services import stop_job
from tests.signals import leftovers
from tests.web.bench.test_take_in import BenchCase


class CopyTests(BenchCase):
    def blank(self) -> None:
        self.client.post(reverse("bench:blank-in", args=["quick"]), {"disc": "80"})

    def copy_pressed(self, drive: str = "clean") -> str:
        return self.client.post(reverse("bench:copy", args=[drive]), follow=True).content.decode()

    def test_three_presses_from_the_shelf_to_a_written_disc(self) -> None:
        image = self.on_shelf("shy", 5, 6, hidden=7)
        self.put_in("shy")
        self.blank()
        self.assertIn("waiting for its turn", self.copy_pressed())
        self.blank()
        self.assertEqual(Recorder.objects.get(key="quick").blank_state, "blank")
        other = self.client.post(reverse("bench:blank-out", args=["quick"]), follow=True).content.decode()
        self.assertIn("The recorder is writing the copy of The shy disc", other)
        self.work()
        copy = DiscCopy.objects.get()
        self.assertEqual((copy.job.state, copy.identical), ("done", True), copy.job.error)
        page = self.page(reverse("discs:copy", args=[copy.pk]))
        self.assert_all_in(
            (
                "The copy is identical to the disc",
                "what lies before track 1",
                "pre-emphasis",
                "CD-Text, pack by pack",
            ),
            page,
        )
        self.assertNotIn("differs", page)
        for suffix in (".bin", ".sub", ".cdt", ".digests"):
            one, two = (path.with_suffix(suffix).read_bytes() for path in (image, Path(copy.image_path)))
            self.assertEqual(one == two, True, suffix)
        self.assertEqual(Recorder.objects.get(key="quick").shelf_key, "", "the copy is released")
        labels = [disc.label for disc in discs_on_shelf()]
        self.assertIn("The shy disc, copied here", labels)
        self.assertIn("The shy disc", self.page(reverse("bench:index")))
        self.assertEqual(leftovers(self.folder), [])

    def test_a_disc_that_was_taken_in_whole_is_copied_from_its_files(self) -> None:
        image = self.on_shelf("shy", 5, 6, hidden=7)
        taken = self.put_in("shy")
        self.press("choose", taken, first="archive-flac", begins="", hidden="on", emphasis="")
        self.press("start", taken)
        self.work_all()
        self.assertIn("No recorder has a blank", self.press("copy-taken", taken))
        self.blank()
        self.press("copy-taken", taken)
        self.work()
        copy = DiscCopy.objects.get()
        self.assertEqual((copy.job.state, copy.identical), ("done", True), copy.job.error)
        for suffix in (".bin", ".sub", ".cdt"):
            one, two = (path.with_suffix(suffix).read_bytes() for path in (image, Path(copy.image_path)))
            self.assertEqual(one == two, True, suffix)

    def test_what_cannot_be_copied_is_said_and_the_blank_stays_blank(self) -> None:
        self.assertIn("There is no disc in that drive", self.copy_pressed())
        self.on_shelf("spots", 40, 40, condition="broken")
        self.on_shelf("tower", 5, 6)
        self.put_in("spots")
        self.assertIn("No recorder has a blank", self.copy_pressed())
        self.blank()
        self.copy_pressed()
        self.work()
        copy = DiscCopy.objects.get()
        self.assertEqual(copy.job.state, "failed")
        self.assertIn("could not be read", self.page(reverse("discs:copy", args=[copy.pk])))
        self.assertEqual((Recorder.objects.get(key="quick").blank_state, copy.image_path), ("blank", ""))
        # With the laser on, whatever ends the work spoils the blank.
        self.put_in("tower", "early")
        self.copy_pressed("early")
        with mock.patch(
            "rumbrel.core.bench.recorder.read_back", side_effect=DiscError("The image cannot be read back.")
        ):
            self.work()
        self.assertEqual(Recorder.objects.get(key="quick").blank_state, "spoiled")
        self.blank()
        self.copy_pressed("early")
        copy = DiscCopy.objects.first()
        stop_job(job=copy.job)
        self.work()
        copy.refresh_from_db()
        self.assertEqual((copy.job.state, copy.lines), ("stopped", []))
        self.assertIn("Nothing of the copy is kept", self.page(reverse("discs:copy", args=[copy.pk])))
        self.assertEqual(Recorder.objects.get(key="quick").blank_state, "blank")
        self.assertEqual(leftovers(self.folder), [])
