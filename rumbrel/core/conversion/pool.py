"""Run many Steps on all cores. A worker that dies takes nothing with it but its own step."""

import os
import signal
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any

from rumbrel.core.errors import Cancelled
from rumbrel.core.forecast.steps import Step
from rumbrel.core.workers import worker_context

from .carry_out import Watch, carry_out, carry_out_group
from .outcome import Outcome
from .placing import working_path

__all__ = ["Progress", "default_jobs", "run_steps"]

_SECONDS_BETWEEN_REPORTS = 0.25
_TRIES = 4
_TRIES_WHEN_KILLED = 40
"""A worker that was killed from outside says nothing against its file; one that crashed does."""


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


Group = tuple[Step, ...]
"""Steps of one source, which are carried out together."""


def _serve(pipe: Connection, shares: Any, groups: Sequence[Group], checks: bool) -> None:
    """A worker: take a group's number, send its outcomes, until None comes or the parent is gone.

    Ctrl-C reaches the whole process group; the parent alone decides what it means.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while True:
        try:
            number = pipe.recv()
        except EOFError:
            return
        if number is None:
            return
        try:
            pipe.send(_work(number, groups[number], shares, checks))
        except (Cancelled, BrokenPipeError):
            # Stopped, or the parent was killed: what was begun has been removed, what was finished stays.
            return


def _work(number: int, group: Group, shares: Any, checks: bool) -> list[Outcome]:
    """Carry out one group; a negative share in slot 0 is the parent's wish to stop."""
    last = 0.0

    def report(share: float) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last >= _SECONDS_BETWEEN_REPORTS:
            shares[number + 1] = share
            last = now

    return carry_out_group(group, Watch(progress=report, cancelled=lambda: shares[0] < 0, checks=checks))


class _Crew:
    """Workers with a pipe each: when one dies, only the group in its hands is concerned."""

    def __init__(self, groups: Sequence[Group], jobs: int, checks: bool) -> None:
        self._context = worker_context()
        # One slot a group and one for the wish to stop.
        self.shares = self._context.RawArray("d", len(groups) + 1)
        self._groups = groups
        self._checks = checks
        self._waiting = sorted(range(len(groups)), key=lambda n: group_seconds(groups[n]))
        self._tries = [0] * len(groups)
        self._hands: dict[Connection, tuple[Any, int | None]] = {}
        for _ in range(jobs):
            self._hire()

    def _hire(self) -> None:
        here, there = self._context.Pipe()
        worker = self._context.Process(
            target=_serve, args=(there, self.shares, self._groups, self._checks), daemon=True
        )
        worker.start()
        there.close()
        self._hands[here] = (worker, None)
        self._hand_out(here)

    def _hand_out(self, pipe: Connection) -> None:
        """Give an idle worker the longest group left, or nothing."""
        worker, _ = self._hands[pipe]
        number = self._waiting.pop() if self._waiting else None
        self._hands[pipe] = (worker, number)
        if number is not None:
            self._tries[number] += 1
            try:
                pipe.send(number)
            except BrokenPipeError:
                # It died while idle; its end of file is seen at the next look, and the step comes back.
                return

    def finished(self) -> Iterator[tuple[int, list[Outcome]] | None]:
        """Yield (number, outcomes) as groups end, and None four times a second in between."""
        while any(number is not None for _, number in self._hands.values()):
            ready = wait(list(self._hands), timeout=_SECONDS_BETWEEN_REPORTS)
            if not ready:
                yield None
            for pipe in ready:
                if isinstance(pipe, Connection):
                    yield from self._hear(pipe)

    def _hear(self, pipe: Connection) -> Iterator[tuple[int, list[Outcome]]]:
        worker, number = self._hands[pipe]
        try:
            outcomes = pipe.recv()
        except (EOFError, ConnectionResetError):
            yield from self._replace(pipe, worker, number)
            return
        self._hand_out(pipe)
        if number is not None:
            yield number, outcomes

    def _replace(self, pipe: Connection, worker: Any, number: int | None) -> Iterator[tuple[int, list[Outcome]]]:
        """A worker died: its group is done again, but not for ever."""
        del self._hands[pipe]
        pipe.close()
        worker.join()
        if number is not None:
            group = self._groups[number]
            for step in group:
                working_path(Path(step.output)).unlink(missing_ok=True)
            tries = _TRIES_WHEN_KILLED if worker.exitcode == -signal.SIGKILL else _TRIES
            if self._tries[number] < tries:
                self._waiting.append(number)
            else:
                text = f"The worker died {tries} times while it read this file. The rest went on."
                yield number, [Outcome(step=step, ok=False, error=text) for step in group]
        self._hire()

    def stop(self) -> None:
        """Ask the workers to let go of what they began, and wait until they have."""
        self.shares[0] = -1.0
        for pipe in self._hands:
            try:
                pipe.send(None)
            except BrokenPipeError:
                continue
        for worker, _ in self._hands.values():
            worker.join()

    def done_seconds(self) -> float:
        return float(sum(self.shares[n + 1] * group_seconds(group) for n, group in enumerate(self._groups)))


def group_seconds(group: Group) -> float:
    """Seconds of sound that a group's results hold in sum."""
    return sum(step.source.duration_seconds for step in group)


def _grouped(steps: Sequence[Step]) -> list[Group]:
    by_source: dict[str, list[Step]] = {}
    for step in steps:
        by_source.setdefault(step.source.path, []).append(step)
    return [tuple(group) for group in by_source.values()]


def run_steps(steps: Sequence[Step], *, jobs: int, checks: bool = True) -> Iterator[Outcome | Progress]:
    """Yield an Outcome as each step ends, with Progress in between; order is that of finishing.

    Closing the iterator, or an exception thrown into it, stops the work: finished results stay,
    what is begun vanishes.
    """
    working = [step for step in steps if step.writes and step.output]
    for step in steps:
        if not (step.writes and step.output):
            yield carry_out(step)
    if not working:
        return
    groups = _grouped(working)
    total = sum(group_seconds(group) for group in groups)
    crew = _Crew(groups, max(1, min(jobs, len(groups))), checks)
    finished = 0
    try:
        for event in crew.finished():
            if event is not None:
                number, outcomes = event
                finished += len(outcomes)
                crew.shares[number + 1] = 1.0
                yield from outcomes
            yield Progress(done_seconds=crew.done_seconds(), total_seconds=total, finished=finished, total=len(working))
    finally:
        crew.stop()
