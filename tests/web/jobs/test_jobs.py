"""Jobs: claimed once, ended in every way with a reason, stopped, recovered, shown."""

import os
import sqlite3
import sys
import time
from datetime import timedelta
from unittest import mock

from django.conf import settings
from django.db import DatabaseError, IntegrityError, OperationalError, transaction
from django.urls import reverse
from django.utils import timezone

from rumbrel.core.errors import Cancelled, DiscError
from rumbrel.core.progress import Progress, Unit
from rumbrel.web.jobs import registry
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.registry import JobKind
from rumbrel.web.jobs.services import Desk, continue_job, recover_jobs, run_job, start_job, stop_job
from rumbrel.web.jobs.watch import Watch, beat, seconds_since_beat
from tests.web.case import WebCase

run_module = sys.modules["rumbrel.web.jobs.services.run_job"]


class JobCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.ended: list[tuple[int, str]] = []
        self.does = lambda desk, subject: f"{subject} done"
        for key, continues in (("trial", True), ("once", False)):
            kind = JobKind(
                key=key,
                run=lambda desk, subject: self.does(desk, subject),
                address=lambda subject: f"/trial/{subject}/",
                continues=continues,
                ended=lambda subject, ending: self.ended.append((subject, str(ending.state))),
            )
            patched = mock.patch.dict(registry._KINDS, {key: kind})
            patched.start()
            self.addCleanup(patched.stop)

    def start(self, kind: str = "trial", subject: int = 7) -> Job:
        return start_job(kind=kind, subject=subject, title="A trial")

    def run_it(self, job: Job) -> Job:
        run_job(job_id=job.pk)
        job.refresh_from_db()
        return job


class EndTests(JobCase):
    def test_done_says_what_came_of_it(self) -> None:
        job = self.run_it(self.start())
        self.assertEqual((job.state, job.message, job.error, job.worker), ("done", "7 done", "", ""))
        self.assertIsNotNone(job.started_at)
        self.assertGreaterEqual(job.ended_at, job.started_at)
        self.assertEqual(self.ended, [(7, "done")])

    def test_an_error_of_ours_is_shown_as_it_is_and_any_other_with_its_name(self) -> None:
        for error, words in (
            (DiscError("No room."), "No room."), (KeyError("odd"), "KeyError"), (OSError(5, "Bad"), "The system refused a file: Bad"),
            (OSError(30, "Read-only", "/cards/a/b.flac"), "Not written: /cards/a can only be read. Choose another"),
        ):  # fmt: skip
            self.does = mock.Mock(side_effect=error)
            with self.assertLogs("rumbrel.web.jobs", "ERROR") if isinstance(error, KeyError) else mock.MagicMock():
                job = self.run_it(self.start())
            self.assertEqual(job.state, "failed")
            self.assertIn(words, job.error)
        self.assertEqual(self.ended, [(7, "failed")] * 4)

    def test_work_of_an_unknown_kind_fails_in_words(self) -> None:
        self.assertIn("knows no work", self.run_it(self.start(kind="gone")).error)

    def test_whoever_comes_second_leaves(self) -> None:
        job = self.start()
        self.does = mock.Mock(return_value="")
        run_job(job_id=job.pk)
        run_job(job_id=job.pk)
        self.assertEqual(self.does.call_count, 1)

    def test_a_subject_has_one_active_job(self) -> None:
        job = self.start()
        self.assertEqual(self.start().pk, job.pk)
        self.assertNotEqual(self.start(subject=8).pk, job.pk)
        with self.assertRaises(IntegrityError), transaction.atomic():
            Job.objects.create(kind="trial", subject=7, title="doubled")
        self.run_it(job)
        self.assertNotEqual(self.start().pk, job.pk)


class DeskTests(JobCase):
    def test_progress_is_noted_and_a_stop_is_heard_at_the_next_report(self) -> None:
        job, seen = self.start(), []

        def work(desk: Desk, subject: int) -> str:
            desk.report(Progress(done=2, total=8, unit=Unit.FILES, step="reading", finished=2, items=8))
            seen.append(Job.objects.get(pk=job.pk))
            stop_job(job=job)
            with self.assertRaises(Cancelled):
                desk.check()
            desk.report(Progress(done=8, total=8, unit=Unit.FILES, step="reading"))
            raise AssertionError("the stop was not heard")

        self.does = work
        self.run_it(job)
        self.assertEqual((seen[0].done, seen[0].total, seen[0].step, seen[0].items), (2, 8, "reading", 8))
        self.assertEqual((job.state, job.error), ("stopped", ""))

    def test_a_note_that_the_database_refuses_is_harmless(self) -> None:
        def work(desk: Desk, subject: int) -> str:
            with mock.patch("django.db.models.query.QuerySet.update", side_effect=DatabaseError("locked")):
                with self.assertLogs("rumbrel.web.jobs", "WARNING"):
                    desk.report(Progress(done=1, total=2, unit=Unit.FILES))
            return "went on"

        self.does = work
        self.assertEqual(self.run_it(self.start()).message, "went on")

    def test_stopped_before_it_began_and_continued(self) -> None:
        job = self.start()
        self.assertTrue(stop_job(job=job))
        self.assertFalse(stop_job(job=job))
        self.does = mock.Mock(return_value="")
        self.assertEqual(self.run_it(job).state, "stopped")
        self.does.assert_not_called()
        again = continue_job(job=job)
        self.assertEqual((again.subject, again.state), (7, "waiting"))
        self.assertEqual(self.run_it(again).state, "done")

    def test_nobody_begins_before_the_last_one_has_let_go(self) -> None:
        job, seen = self.start(), []

        def work(desk: Desk, subject: int) -> str:
            stop_job(job=job)
            seen.append((Job.objects.get(pk=job.pk).shown_state, continue_job(job=job).pk, self.start().pk))
            desk.check()
            raise AssertionError("the stop was not heard")

        self.does = work
        self.assertEqual(self.run_it(job).state, "waiting")
        self.assertEqual((seen, self.ended), ([("stopping", job.pk, job.pk)], [(7, "stopped")]))
        self.does = mock.Mock(return_value="went on")
        self.assertEqual(self.run_it(job).message, "went on")

    def test_a_stop_after_a_continue_is_the_last_word(self) -> None:
        job = self.start()

        def work(desk: Desk, subject: int) -> str:
            stop_job(job=job)
            continue_job(job=job)
            self.assertTrue(stop_job(job=job))
            self.assertFalse(stop_job(job=job))
            desk.check()
            raise AssertionError("the stop was not heard")

        self.does = work
        self.assertEqual(self.run_it(job).state, "stopped")

    def test_what_came_too_late_for_work_under_way_has_it_done_once_more(self) -> None:
        def again(desk: Desk, subject: int) -> str:
            start_job(kind="trial", subject=7, title="A trial", once_more=True)
            return "passed it by"

        self.does = again
        job = self.start()
        self.assertEqual(self.run_it(job).state, "waiting")
        self.does = mock.Mock(return_value="saw it")
        self.assertEqual((self.run_it(job).state, job.message), ("done", "saw it"))

    def test_work_that_was_done_before_it_heard_of_a_stop_is_done(self) -> None:
        job = self.start()

        def work(desk: Desk, subject: int) -> str:
            stop_job(job=job)
            continue_job(job=job)
            return "was done already"

        self.does = work
        self.assertEqual((self.run_it(job).state, job.again, job.stop_asked), ("done", False, False))

    def test_ended_work_goes_on_as_the_same_job_unless_newer_work_is_under_way(self) -> None:
        self.does = mock.Mock(side_effect=[DiscError("No room."), ""])
        job = self.run_it(self.start())
        self.assertEqual((continue_job(job=job).pk, continue_job(job=job).state), (job.pk, "waiting"))
        self.assertEqual((self.run_it(job).state, job.error), ("done", ""))
        Job.objects.filter(pk=job.pk).update(state="failed")
        newer = self.start()
        self.assertEqual(continue_job(job=job).pk, newer.pk)


class TroubleTests(JobCase):
    def test_the_database_says_what_to_do(self) -> None:
        for said, words in (("database or disk is full", "Make room"), ("database is locked", "Press Continue")):
            self.does = mock.Mock(side_effect=OperationalError(said))
            with self.assertLogs("rumbrel.web.jobs", "WARNING"):
                job = self.run_it(self.start())
            self.assertEqual(job.state, "failed")
            self.assertIn(words, job.error)

    def test_an_end_is_noted_as_soon_as_the_database_takes_it(self) -> None:
        refused = [OperationalError("full"), OperationalError("full"), mock.DEFAULT]
        job = self.start()
        with (
            mock.patch(
                "rumbrel.web.jobs.services.run_job.settle", side_effect=refused, wraps=run_module.settle
            ) as settle,
            mock.patch.object(run_module, "_SECONDS_BETWEEN_TRIES", 0),
            self.assertLogs("rumbrel.web.jobs", "WARNING"),
        ):
            self.assertEqual(self.run_it(job).state, "done")
        self.assertEqual(settle.call_count, 3)

    def test_a_kind_that_cannot_settle_does_not_keep_its_job_running(self) -> None:
        with mock.patch.object(self, "ended") as ended, self.assertLogs("rumbrel.web.jobs", "ERROR"):
            ended.append.side_effect = KeyError("odd")
            self.assertEqual(self.run_it(self.start()).state, "done")

    def test_an_order_that_got_lost_is_given_again(self) -> None:
        with (
            mock.patch("rumbrel.web.jobs.tasks.run_job", side_effect=sqlite3.OperationalError("full")),
            self.assertLogs("rumbrel.web.jobs", "WARNING"),
            self.captureOnCommitCallbacks(execute=True),
        ):
            job = self.start()
        with mock.patch("rumbrel.web.jobs.tasks.run_job") as told, self.captureOnCommitCallbacks(execute=True):
            recover_jobs(nothing_queued=False)
            self.assertFalse(told.called)
            recover_jobs()
        told.assert_called_once_with(job.pk)

    def test_a_watch_that_was_held_up_lets_the_hearts_beat_first(self) -> None:
        watch = Watch()
        with mock.patch("rumbrel.web.jobs.watch.recover_jobs") as recover:
            for moved_seconds in (-20, 20, 3_600):
                watch._looked_at += moved_seconds
                watch.look()
                self.assertFalse(recover.called, moved_seconds)
                watch.look()
                self.assertTrue(recover.called, moved_seconds)
                recover.reset_mock()

    def test_a_beat_from_before_the_clock_was_set_back_is_no_sign_of_life(self) -> None:
        settings.RUMBREL.data.mkdir(parents=True, exist_ok=True)
        beat()
        since = seconds_since_beat()
        self.assertIsNotNone(since)
        self.assertLess(since, 5)  # type: ignore[arg-type]
        ahead = time.time() + 3_600
        os.utime(settings.RUMBREL.data / "work-alive", (ahead, ahead))
        self.assertGreater(seconds_since_beat() or 0, 3_000)


class RecoveryTests(JobCase):
    def running(self, seconds_ago: int, **values: object) -> Job:
        job = self.start(**{key: values.pop(key) for key in ("kind", "subject") if key in values})  # type: ignore[arg-type]
        beat = timezone.now() - timedelta(seconds=seconds_ago)
        Job.objects.filter(pk=job.pk).update(state="running", worker="gone:1:1", heartbeat=beat, **values)
        return job

    def test_only_a_stopped_heart_is_taken_up(self) -> None:
        # The clock may have been set back since the last beat.
        for seconds in (31, -35):
            dead, alive = self.running(seconds), self.running(seconds * 29 // 35, subject=8)
            self.assertEqual(recover_jobs(), 1)
            dead.refresh_from_db()
            alive.refresh_from_db()
            self.assertEqual((dead.state, dead.tries, dead.worker), ("waiting", 1, ""))
            self.assertEqual(alive.state, "running")
            self.assertEqual(self.run_it(dead).state, "done")
            alive.delete()

    def test_at_a_start_nobody_can_be_at_work(self) -> None:
        job = self.running(0)
        self.assertEqual(recover_jobs(at_start=True), 1)
        job.refresh_from_db()
        self.assertEqual(job.state, "waiting")

    def test_what_was_to_stop_has_stopped_with_its_worker(self) -> None:
        stopped, again = self.running(60, stop_asked=True), self.running(60, subject=8, stop_asked=True, again=True)
        recover_jobs()
        for job, state in ((stopped, "stopped"), (again, "waiting")):
            job.refresh_from_db()
            self.assertEqual((job.state, job.stop_asked, job.again), (state, False, False))

    def test_work_that_cannot_go_on_ends_with_a_reason(self) -> None:
        once, hopeless = self.running(60, kind="once"), self.running(60, subject=9, tries=5)
        self.assertEqual(recover_jobs(), 0)
        for job, words in ((once, "interrupted"), (hopeless, "5 times")):
            job.refresh_from_db()
            self.assertEqual(job.state, "failed")
            self.assertIn(words, job.error)
        self.assertEqual(sorted(self.ended), [(7, "failed"), (9, "failed")])


class PageTests(JobCase):
    def test_work_lists_what_runs_waits_and_ended(self) -> None:
        self.assertIn("No work yet", self.page(reverse("jobs:work")))
        self.run_it(self.start(subject=1))
        Job.objects.filter(pk=self.start(subject=2).pk).update(
            state="running", done=30, total=120, unit="seconds", step="converting", finished=1, items=4,
            started_at=timezone.now() - timedelta(seconds=10),
        )  # fmt: skip
        self.start(subject=3)
        text = self.page(reverse("jobs:work"))
        self.assert_all_in(("converting", "1 of 4", "0:30", "waiting", "1 done", 'aria-valuenow="25"'), text)
        self.assertIn("every 1s", self.fragment(reverse("jobs:list")))
        self.assertIn("2 at work", self.fragment(reverse("jobs:head")))

    def test_an_end_is_announced_once_to_the_page_that_was_watching(self) -> None:
        job = self.run_it(self.start())
        self.assertNotIn("hx-swap-oob", self.page(reverse("jobs:work")))
        self.assertNotIn("hx-swap-oob", self.fragment(reverse("jobs:head")))
        said = self.fragment(reverse("jobs:head"), watched=str(job.pk))
        self.assert_all_in(('id="ended" hx-swap-oob="beforeend"', "A trial</a>: done. 7 done"), said)
        self.assertNotIn("hx-swap-oob", self.fragment(reverse("jobs:head"), watched=str(job.pk + 1)))

    def test_nothing_polls_when_nothing_runs(self) -> None:
        self.run_it(self.start())
        for address in ("jobs:list", "jobs:head"):
            self.assertNotIn("every", self.fragment(reverse(address)), address)

    def test_stopped_and_failed_work_offers_to_continue_if_it_can(self) -> None:
        for kind, offered in (("trial", True), ("once", False)):
            job = self.start(kind=kind)
            self.client.post(reverse("jobs:stop", args=[job.pk]))
            job.refresh_from_db()
            self.assertEqual(job.state, "stopped")
            self.assertEqual(reverse("jobs:continue", args=[job.pk]) in self.page(reverse("jobs:work")), offered)
        self.client.post(reverse("jobs:continue", args=[Job.objects.get(kind="trial").pk]))
        self.assertEqual(Job.objects.filter(kind="trial", state="waiting").count(), 1)
