"""A crew whose workers die, crash or are stopped loses nothing and tells the truth."""

import os
import signal
import tempfile
import time
from collections.abc import Callable
from multiprocessing import forkserver
from pathlib import Path
from unittest import TestCase

from rumbrel.core.crew import Crew, Finished, Tell
from rumbrel.core.errors import Cancelled

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
    if name == "endless":
        while True:
            tell(0.5)
            time.sleep(0.01)
    return name.upper()


class CrewTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.log = str(Path(folder.name, "tries"))
        self.cleaned: list[str] = []

    def crew(self, *names: str, jobs: int = 2, holds: Callable[[], bool] = lambda: False) -> Crew[tuple[str, str], str]:
        return Crew(
            _work, [(name, self.log) for name in names], jobs=jobs, lost=lambda task, tries: f"{_LOST} {tries}",
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

    def test_the_death_of_the_process_that_forks_workers_is_survived(self) -> None:
        with self.crew("a", jobs=1) as crew:
            list(crew.results())
        os.kill(forkserver._forkserver._forkserver_pid, signal.SIGKILL)  # type: ignore[attr-defined]
        with self.crew("b", "c") as crew:
            self.assertEqual({end.result for end in crew.results() if end is not None}, {"B", "C"})

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
            return held

        with self.crew("a", "b", "c", jobs=1, holds=holds) as crew:
            held, seen, looks = True, [], 0
            for end in crew.results():
                if end is not None:
                    seen.append(end.result)
                    if end.result == "A":
                        self.assertEqual(crew.under_way(), [], "it is idle")
                else:
                    looks += 1
                    if looks == 3:
                        self.assertEqual((seen, crew.under_way()), (["A"], []))
                        held = False
        self.assertEqual((seen, asked[0], True in asked), (["A", "B", "C"], False, True))

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
