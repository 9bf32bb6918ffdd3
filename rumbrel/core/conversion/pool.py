"""Run many Steps on all cores. A worker that dies takes nothing with it but its own step."""

import multiprocessing
import os
import signal
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from types import FrameType
from typing import Any

from rumbrel.core.errors import Cancelled
from rumbrel.core.forecast.steps import Step

from .carry_out import Watch, carry_out
from .outcome import Outcome

__all__ = ["Progress", "default_jobs", "run_steps"]

_SECONDS_BETWEEN_REPORTS = 0.25
_TRIES = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """Work done and planned, in seconds of sound."""

    done_seconds: float
    total_seconds: float
    finished: int
    total: int


def default_jobs() -> int:
    """One worker a core that this process may use."""
    return len(os.sched_getaffinity(0))


def _terminated(signum: int, frame: FrameType | None) -> None:
    raise SystemExit(128 + signum)


def _begin_worker(shares: Any) -> None:
    """Ctrl-C reaches the whole group; the parent alone decides, and workers end by SIGTERM."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, _terminated)
    global _shares
    _shares = shares


_shares: Any = None


def _work(number: int, step: Step) -> Outcome:
    """Carry out one step in a worker; a negative share is the parent's wish to stop."""
    last = 0.0

    def report(share: float) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last >= _SECONDS_BETWEEN_REPORTS:
            _shares[number + 1] = share
            last = now

    return carry_out(step, Watch(progress=report, cancelled=lambda: _shares[0] < 0))


class _Crew:
    """A process pool that is made again when a worker dies."""

    def __init__(self, steps: Sequence[Step], jobs: int) -> None:
        # A fresh server process forks the workers: none inherits threads or locks from here.
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["rumbrel.core.conversion.pool"])
        # One slot a step and one for the wish to stop.
        self.shares = self._context.Array("d", len(steps) + 1, lock=False)
        self._steps = steps
        self._jobs = jobs
        self._waiting = sorted(range(len(steps)), key=lambda n: -steps[n].source.duration_seconds)
        self._tries = [0] * len(steps)
        self._open()

    def _open(self) -> None:
        self._pool = ProcessPoolExecutor(
            self._jobs, mp_context=self._context, initializer=_begin_worker, initargs=(self.shares,)
        )
        self._running: dict[Future[Outcome], int] = {}

    def _fill(self) -> None:
        """Hand out no more than the workers can begin, so that a death concerns few steps."""
        while self._waiting and len(self._running) < self._jobs + 1:
            number = self._waiting.pop(0)
            self._tries[number] += 1
            try:
                self._running[self._pool.submit(_work, number, self._steps[number])] = number
            except BrokenProcessPool:
                self._tries[number] -= 1
                self._waiting.insert(0, number)
                return

    def finished(self) -> Iterator[tuple[int, Outcome] | None]:
        """Yield (number, outcome) as steps end, and None four times a second in between."""
        while self._waiting or self._running:
            self._fill()
            done, _ = wait(self._running, timeout=_SECONDS_BETWEEN_REPORTS, return_when=FIRST_COMPLETED)
            if not done:
                yield None
            for future in done:
                number = self._running.pop(future, None)
                if number is None:
                    continue
                try:
                    yield number, future.result()
                except BrokenProcessPool:
                    yield from self._recover(number)

    def _recover(self, number: int) -> Iterator[tuple[int, Outcome]]:
        """After a death: everything in flight is done again, but a step that keeps dying is given up."""
        concerned = [number, *self._running.values()]
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._open()
        for each in concerned:
            if self._tries[each] < _TRIES + (len(concerned) > 1) * 2:
                self._waiting.insert(0, each)
            else:
                text = "The worker died while it read this file, several times. The rest went on."
                yield each, Outcome(step=self._steps[each], ok=False, error=text)

    def stop(self) -> None:
        """Ask the workers to let go of what they began, and wait until they have."""
        self.shares[0] = -1.0
        self._pool.shutdown(wait=True, cancel_futures=True)

    def done_seconds(self) -> float:
        return sum(self.shares[n + 1] * step.source.duration_seconds for n, step in enumerate(self._steps))


def run_steps(steps: Sequence[Step], *, jobs: int) -> Iterator[Outcome | Progress]:
    """Yield an Outcome as each step ends, with Progress in between; order is that of finishing.

    Closing the iterator, or an exception thrown into it, stops the work: finished results stay,
    what is begun vanishes.
    """
    working = [step for step in steps if step.output and step.action not in ("skip", "refuse")]
    for step in steps:
        if step not in working:
            yield carry_out(step)
    if not working:
        return
    total = sum(step.source.duration_seconds for step in working)
    crew = _Crew(working, max(1, min(jobs, len(working))))
    finished = 0
    try:
        for event in crew.finished():
            if event is not None:
                finished += 1
                crew.shares[event[0] + 1] = 1.0
                yield event[1]
            yield Progress(
                done_seconds=crew.done_seconds(), total_seconds=total, finished=finished, total=len(working)
            )
    except Cancelled:
        return
    finally:
        crew.stop()
