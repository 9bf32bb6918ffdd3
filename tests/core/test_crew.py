"""A crew whose workers die, crash or are stopped loses nothing and tells the truth."""

import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from multiprocessing import forkserver
from pathlib import Path
from unittest import TestCase, mock

import av

from rumbrel.core.crew import Crew, Death, Finished, Tell
from rumbrel.core.errors import Cancelled, WorkersCannotStart
from tests.marks import slow
from tests.signals import write_sound

_LOST = "lost"


def _work(task: tuple[str, str], tell: Tell) -> str:
    """A task by its name; the second part is a file that counts the tries."""
    name, log = task
    with open(log, "a") as file:
        file.write(name + "\n")
    tries = Path(log).read_text().count(name + "\n")
    if name == "killed once" and tries == 1:
        os.kill(os.getpid(), signal.SIGKILL)
    if name == "always crashes":
        os._exit(3)
    if name == "falls over":
        os.kill(os.getpid(), signal.SIGSEGV)
    if name == "endless":
        while True:
            tell(0.5)
            time.sleep(0.01)
    return name.upper()


def _tell_parent(task: int, tell: Tell) -> int:
    return os.getppid()


def _parent_of_a_worker() -> int:
    with Crew(_tell_parent, [0], jobs=1, lost=lambda task, death: -1) as crew:
        return next(end.result for end in crew.results() if isinstance(end, Finished))


def _fall_over(*arguments: object) -> None:
    os._exit(1)


class CrewTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.log = str(Path(folder.name, "tries"))
        self.cleaned: list[str] = []

    def crew(self, *names: str, jobs: int = 2, holds: Callable[[], bool] = lambda: False) -> Crew[tuple[str, str], str]:
        return Crew(
            _work, [(name, self.log) for name in names], jobs=jobs, lost=lambda task, death: f"{_LOST} {death.tries}{' by a crash' * death.crashed}",
            before_again=lambda task: self.cleaned.append(task[0]), holds=holds,
        )  # fmt: skip

    def test_a_worker_that_dies_costs_its_task_alone(self) -> None:
        with self.crew("a", "killed once", "b", "always crashes", "c") as crew:
            found = {end.number: end.result for end in crew.results() if isinstance(end, Finished)}
            self.assertEqual(found, {0: "A", 1: "KILLED ONCE", 2: "B", 3: f"{_LOST} 4", 4: "C"})
            self.assertEqual([crew.shares()[number] for number in (0, 1, 2, 4)], [1.0] * 4)
            self.assertEqual(crew.under_way(), [])
        tries = Path(self.log).read_text().splitlines()
        self.assertEqual({name: tries.count(name) for name in set(tries)},
                         {"a": 1, "killed once": 2, "b": 1, "always crashes": 4, "c": 1})  # fmt: skip
        self.assertEqual(sorted(self.cleaned), ["always crashes"] * 4 + ["killed once"])

    def test_only_a_crash_of_its_own_alone_and_anew_says_something_of_a_task(self) -> None:
        with self.crew("falls over", "a", "always crashes", "b") as crew:
            found = {end.number: end.result for end in crew.results() if isinstance(end, Finished)}
        self.assertEqual(found, {0: f"{_LOST} 4 by a crash", 1: "A", 2: f"{_LOST} 4", 3: "B"})
        tries = Path(self.log).read_text().splitlines()
        self.assertEqual(sorted(tries[-2:]), ["always crashes", "falls over"], "the last tries come last")
        self.assertIn("Copy it again", Death(4, crashed=True).text("a.mp3"))
        self.assertIn("outside the file", Death(4, crashed=False).text("a.mp3"))

    def test_workers_that_cannot_start_are_said_once_and_cost_no_task(self) -> None:
        with mock.patch("rumbrel.core.crew._serve", _fall_over), self.crew("a", "b") as crew:
            with self.assertRaisesRegex(WorkersCannotStart, "could not be started"):
                list(crew.results())
        self.assertFalse(Path(self.log).exists())

    @slow
    def test_it_starts_from_any_folder(self) -> None:
        """A folder beside it may be called like the package, or like a module of the language."""
        folder = Path(self.log).parent
        (folder / "rumbrel").mkdir()
        (folder / "random.py").write_text("raise SystemExit('the wrong module')")
        paths = [str(write_sound(folder / f"{number}.wav", 2_000)) for number in range(30)]
        command = [sys.executable, str(Path(__file__).parents[2] / "manage.py"), "inspect", "--json", *paths]
        environment = {**os.environ, "PYTHONPATH": "", "PYTHONSAFEPATH": ""}
        done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True)
        self.assertEqual((done.returncode, done.stdout.count('"samples": 2000')), (0, 30), done.stderr[-2_000:])

    def test_the_death_of_the_process_that_forks_workers_is_survived(self) -> None:
        with self.crew("a", jobs=1) as crew:
            list(crew.results())
        os.kill(forkserver._forkserver._forkserver_pid, signal.SIGKILL)  # type: ignore[attr-defined]
        with self.crew("b", "c") as crew:
            self.assertEqual({end.result for end in crew.results() if end is not None}, {"B", "C"})

    def test_no_worker_inherits_the_threads_of_a_library(self) -> None:
        """A resampler has threads of its own; a process forked beside it waits for them when it lets the resampler go."""
        silence = av.AudioFrame(format="fltp", layout="mono", samples=1_000)
        silence.sample_rate = 44_100
        resampler = av.AudioResampler(format="s16", layout="mono", rate=8_000)
        resampler.resample(silence)
        self.assertEqual(threading.active_count(), 1)
        self.assertNotEqual(_parent_of_a_worker(), os.getpid())
        del resampler

    def test_leaving_stops_what_runs(self) -> None:
        with self.crew("endless", "a", jobs=2) as crew:
            ends = []
            for end in crew.results():
                ends.append(end)
                if crew.shares() == [0.5, 1.0] and crew.under_way() == [0]:
                    break
        self.assertEqual([end for end in ends if end is not None], [Finished(1, "A")])

    def test_held_it_finishes_what_was_begun_and_begins_nothing(self) -> None:
        asked, held = [], False

        def holds() -> bool:
            asked.append(held)
            return held and len(asked) > 1

        with self.crew("a", "b", "c", jobs=1, holds=holds) as crew:
            held, seen, looks = True, [], 0
            for end in crew.results():
                if end is not None:
                    seen.append(end.result)
                    if end.result == "A":
                        self.assertEqual(crew.under_way(), [], "it is idle")
                elif seen:
                    looks += 1
                    if looks == 3:
                        self.assertEqual((seen, crew.under_way()), (["A"], []))
                        held = False
        self.assertEqual((seen, asked[0], True in asked), (["A", "B", "C"], True, True))

    def test_a_task_hears_that_it_is_to_stop(self) -> None:
        shares = [0.0, 0.0, 0.0]
        tell = Tell(shares, 1, os.getppid())
        tell(0.25)
        self.assertEqual(shares, [0.0, 0.0, 0.25])
        shares[0] = -1.0
        self.assertRaises(Cancelled, tell, 0.5)
        self.assertRaises(Cancelled, Tell([0.0, 0.0], 0, -1), 0.5)

    def test_no_tasks_are_no_work(self) -> None:
        with self.crew() as crew:
            self.assertEqual(list(crew.results()), [])
