"""Steps on several machines: two workers that see the folders elsewhere, one that does not, and one that is killed."""

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

from django.conf import settings
from django.test import override_settings
from django.urls import reverse

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.conversion.hands import Mounts
from rumbrel.core.conversion.shared import run_shared
from rumbrel.core.conversion.work_list import Task, WorkList, WorkListLost, connected
from rumbrel.core.forecast import ResultLedger, Step, forecast_batch, gather_sources
from rumbrel.core.progress import Progress
from rumbrel.core.records import as_record, from_record
from rumbrel.core.targets import find_target
from tests.marks import slow
from tests.signals import leftovers, write_sound
from tests.web.case import WebCase

MANAGE = Path(__file__).resolve().parents[3] / "manage.py"


class RedisCase(TestCase):
    """A Redis server of its own, which forgets everything when it ends."""

    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.place = Path(folder.name).resolve()
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.address = f"redis://127.0.0.1:{self.port}/0"
        self.server = subprocess.Popen(
            ["redis-server", "--port", str(self.port), "--bind", "127.0.0.1", "--save", "", "--dir", str(self.place)],
            stdout=subprocess.DEVNULL,
        )
        self.addCleanup(self._end, self.server)
        until = time.monotonic() + 10
        while True:
            try:
                self.client = connected(self.address)
                break
            except WorkListLost:
                self.assertLess(time.monotonic(), until, "redis-server did not start")
                time.sleep(0.05)
        self.addCleanup(self.client.close)
        self.list = WorkList(self.client)

    @staticmethod
    def _end(process: "subprocess.Popen[bytes]") -> None:
        process.terminate()
        process.wait(timeout=20)

    def worker(self, **environment: str) -> "subprocess.Popen[bytes]":
        """./run work with one worker."""
        ours = {
            "RUMBREL_DATA": str(self.place / "lent"), "RUMBREL_REDIS_URL": self.address, "RUMBREL_ROOTS": str(self.place),
            "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base",
        }  # fmt: skip
        process = subprocess.Popen(
            [sys.executable, str(MANAGE), "work", "--jobs", "1"], env={**os.environ, **ours, **environment},
            stdout=subprocess.DEVNULL,
        )  # fmt: skip
        self.addCleanup(self._end, process)
        return process

    def wait_for(self, count: int) -> None:
        until = time.monotonic() + 30
        while sum(machine.alive for machine in self.list.machines()) < count:
            self.assertLess(time.monotonic(), until, "the workers did not come")
            time.sleep(0.1)

    def steps(self, count: int, seconds: float = 1.0, target: str = "car-mp3") -> tuple[Step, ...]:
        served = self.place / "served"
        for number in range(count):
            write_sound(served / "in" / f"{number:02d}.wav", int(44_100 * seconds), seed=number)
        sources = gather_sources([served / "in"])
        return forecast_batch(sources, find_target(target), served / "out").steps


class SharedTests(RedisCase):
    def test_a_step_goes_through_the_list_as_it_is(self) -> None:
        for step in self.steps(2, target="archive-flac"):
            self.assertEqual(from_record(Step, as_record(step)), step)

    @slow
    def test_two_machines_with_other_mounts_one_killed_and_one_that_sees_nothing(self) -> None:
        steps = self.steps(10, seconds=30)
        (self.place / "elsewhere").symlink_to(self.place / "served")
        mounts = f"{self.place / 'served'}={self.place / 'elsewhere'}"
        self.worker(RUMBREL_MOUNTS=mounts, RUMBREL_ROOTS=str(self.place / "elsewhere"))
        second = self.worker()
        blind = self.worker(RUMBREL_MOUNTS=f"{self.place / 'served'}={self.place / 'nothing'}")
        self.wait_for(3)
        ledger = ResultLedger.for_destination(self.place / "ledger", self.place / "served" / "out")
        events = run_shared(steps, work_list=self.list, ledgers={"car-mp3": ledger.path})
        outcomes: list[Outcome] = []
        killed = False
        for event in events:
            if isinstance(event, Outcome):
                outcomes.append(event)
            if len(outcomes) >= 2 and not killed:
                killed = True
                os.kill(second.pid, signal.SIGKILL)
                for child in Path(f"/proc/{second.pid}/task/{second.pid}/children").read_text().split():
                    os.kill(int(child), signal.SIGKILL)
        self.assertTrue(killed)
        self.assertEqual([outcome.error for outcome in outcomes if not outcome.ok], [])
        by_output = {outcome.step.output: outcome.step for outcome in outcomes}
        self.assertEqual(by_output, {step.output: step for step in steps}, "as it was asked for")
        self.assertEqual(len(outcomes), len(steps), "each once")
        self.assertTrue(all(outcome.checked and Path(outcome.step.output).is_file() for outcome in outcomes))
        self.assertEqual(leftovers(self.place / "served"), [])
        alone = {Path(e.step.output).read_bytes() for e in run_steps(
            [replace(step, output=step.output.replace("/out/", "/alone/")) for step in steps], jobs=2)
            if isinstance(e, Outcome)}  # fmt: skip
        self.assertEqual(
            {Path(step.output).read_bytes() for step in steps}, alone, "byte for byte what one machine makes"
        )
        known = ResultLedger.for_destination(self.place / "ledger", self.place / "served" / "out")
        for step in steps:
            self.assertIsNotNone(
                known.finished(str(Path(step.source.path).absolute()), step.work), "noted by this side"
            )
        refused = [machine for machine in self.list.machines() if machine.refusal]
        self.assertIn("Is its disk mounted", refused[0].refusal)
        self.assertEqual(refused[0].finished, 0)
        self.assertIsNone(blind.poll())

    def test_work_that_nobody_can_do_ends_with_the_reason_and_waiting_is_said(self) -> None:
        steps = self.steps(1)
        events = run_shared(steps, work_list=self.list)
        first = next(event for event in events if isinstance(event, Progress))
        self.assertEqual(first.step, "waiting for a machine that takes work")
        self.worker(RUMBREL_ROOTS=str(self.place / "elsewhere"))
        outcome = next(event for event in events if isinstance(event, Outcome))
        self.assertRegex(outcome.error, "No machine can do it: .*lies outside the folders that this machine may use")
        events.close()

    def test_stopped_it_leaves_nothing_half_written_and_nothing_on_the_list(self) -> None:
        steps = self.steps(3, seconds=200)
        self.worker()
        self.wait_for(1)
        events = run_shared(steps, work_list=self.list)
        next(event for event in events if isinstance(event, Progress) and event.parts)
        events.close()
        self.assertEqual(leftovers(self.place / "served"), [])
        self.assertFalse(any(Path(step.output).exists() for step in steps))
        self.assertEqual(self.client.llen("rumbrel:waiting"), 0)

    def test_a_result_that_nobody_was_told_of_is_taken_as_it_is(self) -> None:
        (step,) = self.steps(1)
        made = next(event for event in run_steps([step], jobs=1) if isinstance(event, Outcome))
        path = Path(step.output)
        self.assertIsNone(self.list.landed(step, path))
        self.list.note_landed(step, path, {"ok": True, "checked": True, "bytes_out": made.bytes_out})
        self.assertIsNone(self.list.landed(replace(step, work="another"), path), "made for other wishes")
        newer = replace(step.source, modified_ns=step.source.modified_ns + 1)
        self.assertIsNone(self.list.landed(replace(step, source=newer), path), "made of an earlier version")
        (outcome,) = [event for event in run_shared([step], work_list=self.list) if isinstance(event, Outcome)]
        self.assertTrue(outcome.ok and outcome.checked)
        self.list.note_landed(step, path, {"ok": True})
        path.write_bytes(path.read_bytes() + b"other")
        self.assertIsNone(self.list.landed(step, path), "another's file is not taken for ours")

    def test_what_a_killed_run_left_on_the_list_is_not_made_beside_the_next(self) -> None:
        steps = self.steps(3)
        self.list.beat("busy")
        for number, step in enumerate(steps):
            self.list.put(Task(id=f"dead-{number}", run="dead", steps=(step,)))
        held = self.list.take("busy", seconds=1.0)
        assert held is not None
        self.assertTrue(self.list.tell(held, 0.5))
        events = run_shared(steps, work_list=self.list)
        next(events)
        self.assertFalse(self.list.tell(held, 0.6), "who writes the same result is told to stop")
        self.assertEqual(self.client.llen("rumbrel:waiting"), 0, "nothing is begun before he did")
        self.list.let_go("busy", held)
        self.list.leave("busy", broken=False)
        self.worker()
        outcomes = [event for event in events if isinstance(event, Outcome)]
        self.assertEqual(sorted(o.step.output for o in outcomes if o.ok), sorted(step.output for step in steps))
        self.assertEqual((len(outcomes), self.list.owners([step.output for step in steps])), (3, set()))

    def test_a_list_that_forgot_everything_is_filled_again_and_a_folder_that_cannot_be_ends_its_own_files(self) -> None:
        steps = self.steps(2)
        blocked = Path(steps[0].output).parent
        in_the_way = replace(steps[0], output=str(blocked / "a file" / "0.mp3"))
        blocked.mkdir(parents=True)
        (blocked / "a file").write_text("")
        events = run_shared([in_the_way, steps[1]], work_list=self.list)
        outcomes = [event for event in (next(events), next(events)) if isinstance(event, Outcome)]
        self.assertEqual([(o.ok, o.step) for o in outcomes], [(False, in_the_way)])
        self.client.flushdb()
        self.worker()
        self.assertEqual([(o.ok, o.step) for o in events if isinstance(o, Outcome)], [(True, steps[1])])

    def test_who_broke_counts_as_a_try_and_who_went_does_not(self) -> None:
        (step,) = self.steps(1)
        self.list.put(Task(id="r-0", run="r", steps=(step,)))
        for broken, tries in ((False, 0), (True, 1)):
            self.list.beat("one")
            self.assertIsNotNone(self.list.take("one", seconds=1.0))
            self.list.leave("one", broken=broken)
            self.assertEqual((self.list.tries("r-0"), self.list.machines()), (tries, []))

    def test_a_chosen_picture_that_is_not_to_be_seen_is_an_objection(self) -> None:
        (step,) = self.steps(1)
        Path(step.output).parent.mkdir(parents=True)
        mounts = Mounts(allowed=(self.place,))
        self.assertEqual(mounts.objection(step), "")
        self.assertIn("cover.png", mounts.objection(replace(step, cover=str(self.place / "cover.png"))))

    def test_an_orphan_waits_again_and_is_not_tried_for_ever(self) -> None:
        (step,) = self.steps(1)
        self.list.put(Task(id="r-0", run="r", steps=(step,)))
        self.list.beat("gone")
        taken = self.list.take("gone", seconds=1.0)
        assert taken is not None
        self.assertEqual((taken.steps, taken.tries, self.list.orphans()), ((step,), 0, []))
        self.client.delete("rumbrel:alive:gone")
        self.assertEqual(self.list.orphans(), ["r-0"])
        self.list.again("r-0")
        self.list.beat("other")
        again = self.list.take("other", seconds=1.0)
        assert again is not None
        self.assertEqual((again.tries, self.list.tries("r-0")), (1, 1))
        self.list.finish("gone", taken, [], sound_seconds=1, work_seconds=1)
        self.assertEqual(self.client.llen("rumbrel:ended:r"), 0, "who came back too late is not heard")

    def test_a_list_that_cannot_be_reached_is_said(self) -> None:
        self._end(self.server)
        with self.assertRaisesRegex(WorkListLost, "RUMBREL_REDIS_URL"):
            connected(self.address)
        (step,) = self.steps(1)
        with self.assertRaisesRegex(WorkListLost, "Start its server again"):
            list(run_shared([step], work_list=self.list))


class ScreenTests(RedisCase, WebCase):
    def test_a_batch_is_done_by_who_takes_it_and_work_shows_the_machines(self) -> None:
        self.gather()
        self.pull_all()
        self.worker(RUMBREL_ROOTS=str(self.folder))
        self.wait_for(1)
        with override_settings(RUMBREL=replace(settings.RUMBREL, redis_url=self.address)):
            self.client_web = self.client_class()
            answer = self.client_web.post(
                reverse("batches:start"), {"target": "car-mp3", "destination": "results"}, follow=True
            )
            (job,) = self.work()[-1:]
            self.assertEqual((answer.status_code, job.state, job.error), (200, "done", ""))
            page = self.client_web.get(reverse("jobs:work")).content.decode()
            self.assert_all_in(("Machines that take work", "waits for work"), page)
        self.assertEqual(len(list(settings.RUMBREL.results.rglob("*.mp3"))), 2)
        with override_settings(RUMBREL=replace(settings.RUMBREL, redis_url="redis://127.0.0.1:1/0")):
            self.assertIn("cannot be reached", self.client_web.get(reverse("jobs:work")).content.decode())
