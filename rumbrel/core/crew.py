"""One crew of workers for all heavy work: a process a core, and none that dies takes more than its task with it."""

import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from multiprocessing.context import ForkContext, ForkServerContext
from pathlib import Path
from typing import Any, Generic, TypeVar

from .errors import Cancelled, WorkersCannotStart

__all__ = ["Crew", "Death", "Finished", "Tell", "default_jobs", "expect_every_kind"]

_SECONDS_BETWEEN_LOOKS = 0.25
_TRIES = 4
_TRIES_WHEN_KILLED = 40
"""A worker that was killed from outside says nothing against its task; one that crashed does."""
_STARTS = 4
"""So many workers that end before they are ready, one after the other, are no accident."""
_READY = "ready"
_CRASHES = frozenset(
    -number for number in (signal.SIGSEGV, signal.SIGBUS, signal.SIGILL, signal.SIGFPE, signal.SIGABRT)
)
_PRELOADED = ["rumbrel.core.conversion.carry_out", "rumbrel.core.conversion.levelling", "rumbrel.core.inspection.many"]
_PRELOADED_FOR_ALL = ("scipy.fft", "scipy.signal", "soxr")
"""Filters and transforms, which many a task does without and which take longer to import than most commands run."""

Task = TypeVar("Task")
Result = TypeVar("Result")


def expect_every_kind() -> None:
    """Have what only some tasks need imported once for all workers to come: for a process that does work of every kind
    for hours. Before the first crew, or it has no effect."""
    _PRELOADED.extend(name for name in _PRELOADED_FOR_ALL if name not in _PRELOADED)


def default_jobs() -> int:
    """One worker a core that this process may use."""
    return len(os.sched_getaffinity(0))


@dataclass(frozen=True, slots=True)
class Tell:
    """How a worker's task says how far it is. Calling it with the share done, 0.0 to 1.0, raises
    Cancelled when the work is to stop, or when the process that wanted it is gone."""

    shares: Any
    number: int
    parent: int

    def __call__(self, share: float) -> None:
        if self.shares[0] < 0 or os.getppid() != self.parent:
            raise Cancelled("Stopped. Nothing half-written is left.")
        self.shares[self.number + 1] = share


@dataclass(frozen=True, slots=True)
class Finished(Generic[Result]):
    """The result of the task of a number."""

    number: int
    result: Result


@dataclass(frozen=True, slots=True)
class Death:
    """How a task's workers ended, each time it was tried; the last time it had a fresh worker, alone. crashed says that
    the code that did the task fell over its content. Anything else (no memory, a kill, an error of ours) tells nothing
    about what the task was to read."""

    tries: int
    crashed: bool

    def text(self, name: str) -> str:
        """What to say of a file of that name."""
        if self.crashed:
            return f"Reading {name} ended the reader {self.tries} times. Copy it again from where it came, or leave it out."
        return (
            f"The work on {name} ended {self.tries} times before it was done, for a reason outside the file. "
            "Nothing was kept of it. Try again; if it happens again, the log says why."
        )


def _be_found() -> None:
    """Have every process that is started from here import the same code, wherever this one was started: a folder there
    may be called like a package."""
    root = str(Path(__file__).resolve().parents[2])
    paths = [path for path in os.environ.get("PYTHONPATH", "").split(os.pathsep) if path and path != root]
    os.environ["PYTHONPATH"] = os.pathsep.join([root, *paths])
    os.environ["PYTHONSAFEPATH"] = "1"


def _is_of_one_thread() -> bool:
    """The threads of libraries count too: a fork that has their locks and not them waits for them for ever. Only
    Python's own are known where the system does not list them, and that is not enough."""
    tasks = Path("/proc/self/task")
    return threading.active_count() == 1 and tasks.is_dir() and len(list(tasks.iterdir())) == 1


def _context(tasks: int) -> ForkServerContext | ForkContext:
    """Workers are forked from a fresh server process, which has imported once what every worker needs:
    none inherits threads or locks from here. For a single task, where there are no threads to inherit, that takes
    longer than the task: its worker is forked from here."""
    if tasks == 1 and _is_of_one_thread():
        return multiprocessing.get_context("fork")
    _be_found()
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(_PRELOADED)
    return context


def _serve(pipe: Connection, shares: Any, work: Callable[[Any, Tell], Any], parents_end: Connection | None) -> None:
    """A worker: take a task, send its result, until the parent wants no more or is gone.

    Ctrl-C reaches the whole process group; the parent alone decides what it means.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    parent = os.getppid()
    if parents_end is not None:
        # One that was forked from its parent has both ends of the pipe, and would never see it end.
        parents_end.close()
    try:
        pipe.send(_READY)
    except (BrokenPipeError, ConnectionResetError):
        return
    while True:
        try:
            number, task = pipe.recv()
        except (EOFError, ConnectionResetError):
            return
        try:
            pipe.send(work(task, Tell(shares, number, parent)))
        except (Cancelled, BrokenPipeError, ConnectionResetError):
            # Stopped, or the parent was killed: what was begun has been removed, what was finished stays.
            return


class Crew(Generic[Task, Result]):
    """Carries out tasks, first come first served, on so many workers.

    work is a module's function of (task, tell). lost makes the result of a task whose worker died time
    and again, the last time alone. before_again cleans up after a worker that died. While holds says so, what was
    begun is finished and nothing new begins. Tasks and results are pickled. Use it in a with statement: leaving it
    stops what still runs. Workers that do not even start raise WorkersCannotStart from results.
    """

    def __init__(
        self,
        work: Callable[[Task, Tell], Result],
        tasks: Sequence[Task],
        *,
        jobs: int,
        lost: Callable[[Task, Death], Result],
        before_again: Callable[[Task], None] = lambda task: None,
        holds: Callable[[], bool] = lambda: False,
    ) -> None:
        self._work, self._tasks, self._lost, self._before_again = work, tasks, lost, before_again
        self._holds = holds
        self._jobs = max(1, min(jobs, len(tasks)))
        self._context = _context(len(tasks))
        # One slot a task and one for the wish to stop.
        self._shares = self._context.RawArray("d", len(tasks) + 1)
        self._waiting = list(range(len(tasks) - 1, -1, -1))
        self._tries = [0] * len(tasks)
        # Tasks whose last try is to come, when nothing else is under way.
        self._alone: list[int] = []
        self._hands: dict[Connection, tuple[Any, int | None]] = {}
        self._starting: set[Connection] = set()
        self._failed_starts = 0

    def __enter__(self) -> "Crew[Task, Result]":
        for _ in range(self._jobs):
            self._hire()
        return self

    def __exit__(self, *error: object) -> None:
        self._stop()

    def shares(self) -> list[float]:
        """How far each task is, 0.0 to 1.0."""
        return list(self._shares[1:])

    def under_way(self) -> list[int]:
        """The numbers of the tasks that are in a worker's hands."""
        return sorted(number for _, number in self._hands.values() if number is not None)

    def _hire(self) -> None:
        here, there = self._context.Pipe()
        worker = self._start(there, here)
        there.close()
        self._hands[here] = (worker, None)
        self._starting.add(here)

    def _start(self, pipe: Connection, parents_end: Connection) -> Any:
        """A worker at the other end of a pipe. The process that forks them may have been killed just before or
        meanwhile: then the next try begins another one."""
        for _ in range(_TRIES - 1):
            with suppress(EOFError, OSError):
                return self._started(pipe, parents_end)
            time.sleep(_SECONDS_BETWEEN_LOOKS)
        return self._started(pipe, parents_end)

    def _started(self, pipe: Connection, parents_end: Connection) -> Any:
        forked = parents_end if isinstance(self._context, ForkContext) else None
        worker = self._context.Process(target=_serve, args=(pipe, self._shares, self._work, forked), daemon=True)
        worker.start()
        return worker

    def _hand_out(self, pipe: Connection) -> None:
        """Give an idle worker the next task, or nothing."""
        worker, _ = self._hands[pipe]
        number = self._waiting.pop() if self._waiting and not self._holds() else None
        self._hands[pipe] = (worker, number)
        if number is not None:
            self._tries[number] += 1
            try:
                pipe.send((number, self._tasks[number]))
            except BrokenPipeError:
                # It died while idle; its end of file is seen at the next look, and the task comes back.
                return

    def results(self) -> Iterator[Finished[Result] | None]:
        """Yield what is finished as it comes, and None four times a second in between."""
        looked = time.monotonic()
        while self._waiting or self._alone or self.under_way():
            if self._alone and not self._waiting and not self.under_way():
                self._try_alone()
            ready = wait(list(self._hands), timeout=_SECONDS_BETWEEN_LOOKS)
            for pipe in ready:
                if isinstance(pipe, Connection):
                    yield from self._hear(pipe)
            if time.monotonic() - looked >= _SECONDS_BETWEEN_LOOKS:
                looked = time.monotonic()
                self._wake()
                yield None

    def _wake(self) -> None:
        """Work for the idle, once nothing holds them any more."""
        for pipe, (_, number) in list(self._hands.items()):
            if number is None and self._waiting and pipe not in self._starting:
                self._hand_out(pipe)

    def _try_alone(self) -> None:
        """The next of the last tries, by a worker that has done nothing before, and no other beside it."""
        self._let_go()
        self._waiting.append(self._alone.pop(0))
        self._hire()

    def _hear(self, pipe: Connection) -> Iterator[Finished[Result]]:
        worker, number = self._hands[pipe]
        try:
            result = pipe.recv()
        except (EOFError, ConnectionResetError):
            yield from self._replace(pipe, worker, number)
            return
        if pipe in self._starting:
            self._starting.discard(pipe)
            self._failed_starts = 0
            self._hand_out(pipe)
            return
        self._hand_out(pipe)
        if number is not None:
            self._shares[number + 1] = 1.0
            yield Finished(number, result)

    def _replace(self, pipe: Connection, worker: Any, number: int | None) -> Iterator[Finished[Result]]:
        """A worker died: its task is done again, but not for ever."""
        del self._hands[pipe]
        pipe.close()
        worker.join()
        killed = worker.exitcode == -signal.SIGKILL
        if pipe in self._starting:
            self._starting.discard(pipe)
            self._failed_starts += 1
            if self._failed_starts >= (_TRIES_WHEN_KILLED if killed else _STARTS):
                raise WorkersCannotStart(
                    "The work could not be started: its processes end at once. Nothing was kept of it. "
                    "The log says why; ./run doctor looks at the installation."
                )
        if number is not None:
            yield from self._again(number, worker.exitcode, _TRIES_WHEN_KILLED if killed else _TRIES)
        if self._waiting or not self._alone:
            self._hire()

    def _again(self, number: int, exitcode: int, most: int) -> Iterator[Finished[Result]]:
        """Another try of a task whose worker died; the last of them alone."""
        task = self._tasks[number]
        self._before_again(task)
        tried = self._tries[number]
        if tried < most - 1:
            self._waiting.append(number)
        elif tried < most:
            self._alone.append(number)
        else:
            yield Finished(number, self._lost(task, Death(tried, exitcode in _CRASHES)))

    def _stop(self) -> None:
        """Ask the workers to let go of what they began, and wait until they have."""
        self._shares[0] = -1.0
        self._let_go()

    def _let_go(self) -> None:
        """Have no workers any more: those that are idle end when nobody is at the other end."""
        for pipe in self._hands:
            # A worker in the middle of sending a large result would wait for ever to be heard.
            pipe.close()
        for worker, _ in self._hands.values():
            worker.join()
        self._hands.clear()
        self._starting.clear()
