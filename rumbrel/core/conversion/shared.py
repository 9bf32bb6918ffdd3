"""Have steps carried out by whoever takes them from the work list: the same events as those of one machine's pool."""

import time
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from rumbrel.core.errors import OutputError
from rumbrel.core.files import output_errors
from rumbrel.core.forecast.steps import Step
from rumbrel.core.progress import Progress, Unit

from .carry_out import carry_out
from .landing import note_landing, restored
from .outcome import Outcome
from .pool import Group, group_seconds, grouped
from .work_list import Task, WorkList, WorkListLost

__all__ = ["run_shared"]

_SECONDS_BETWEEN_LOOKS = 0.25
_SECONDS_BETWEEN_REAPS = 2.0
_TRIES = 6
_AHEAD = 2
"""So many tasks wait in the list for each who takes some: enough for none to be idle, few enough for others' turns."""


@contextmanager
def _reached() -> Iterator[None]:
    """Errors of the work list as a sentence."""
    import redis

    try:
        yield
    except redis.RedisError as error:
        raise WorkListLost(
            "The work list in Redis was lost. What is finished stays. Start its server again, then continue."
        ) from error


def run_shared(
    steps: Sequence[Step],
    *,
    work_list: WorkList,
    jobs: int = 0,
    ledgers: Mapping[str, Path] | None = None,
    holds: Callable[[], bool] = lambda: False,
    in_order: bool = False,
) -> Iterator[Outcome | Progress]:
    """As run_steps, but on every machine that takes work. jobs is theirs to say. Only this side writes into ledgers.

    Raises WorkListLost where the list cannot be reached any more.
    """
    working = [step for step in steps if step.writes and step.output]
    for step in steps:
        if not (step.writes and step.output):
            yield carry_out(step)
    run = _Run(work_list, grouped(working, in_order), ledgers or {}, holds)
    if working:
        with _reached():
            yield from run.events()


class _Run:
    """One run's tasks: those that wait here, and those that are on the list or in somebody's hand."""

    def __init__(
        self, work_list: WorkList, groups: list[Group], ledgers: Mapping[str, Path], holds: Callable[[], bool]
    ) -> None:
        self._list, self._ledgers, self._holds = work_list, ledgers, holds
        self._id = uuid.uuid4().hex
        self._groups = {f"{self._id}-{number}": group for number, group in enumerate(groups)}
        self._waiting = list(self._groups)
        self._out: set[str] = set()
        self._done_seconds = 0.0
        self._finished = 0
        self._reaped = 0.0

    def events(self) -> Iterator[Outcome | Progress]:
        try:
            yield from self._displaced()
            for task_id in list(self._waiting):
                yield from self._found_there(task_id)
            while self._waiting or self._out:
                machines = [machine for machine in self._list.machines() if machine.alive]
                while self._waiting and len(self._out) < _AHEAD * max(1, len(machines)) and not self._holds():
                    yield from self._put(self._waiting.pop(0))
                for task_id, records, _ in self._list.ended(self._id, seconds=_SECONDS_BETWEEN_LOOKS):
                    self._list.disown([step.output for step in self._groups[task_id]])
                    yield from self._heard(task_id, [restored(step, record) for step, record in zip(
                        self._groups[task_id], records, strict=True)])  # fmt: skip
                yield from self._look_after({machine.name for machine in machines})
                yield self._progress(bool(machines))
        finally:
            self._list.withdraw(self._id, [*self._out])

    def _displaced(self) -> Iterator[Progress]:
        """What a run that was killed still has on the list of these results is no longer begun; waits until nobody
        writes them."""
        outputs = [step.output for group in self._groups.values() for step in group]
        earlier = self._list.owners(outputs)
        for task_id in earlier:
            self._list.drop(task_id)
        while self._list.in_hands(earlier):
            yield self._progress(True)
            time.sleep(_SECONDS_BETWEEN_LOOKS)

    def _put(self, task_id: str) -> Iterator[Outcome]:
        steps = self._groups[task_id]
        self._out.add(task_id)
        try:
            for step in steps:
                with output_errors(Path(step.output).parent):
                    # A folder that a machine does not see tells it that this is not its disk.
                    Path(step.output).parent.mkdir(parents=True, exist_ok=True)
        except OutputError as error:
            yield from self._given_up(task_id, str(error))
        else:
            self._list.put(Task(id=task_id, run=self._id, steps=steps))

    def _found_there(self, task_id: str) -> Iterator[Outcome]:
        """What an earlier run had brought into place before it ended is heard now."""
        left, there = [], []
        for step in self._groups[task_id]:
            found = self._list.landed(step, Path(step.output))
            if found is None:
                left.append(step)
            else:
                there.append(restored(step, found))
        if there:
            self._groups[task_id] = tuple(left)
            yield from self._settled(there)
            if not left:
                self._waiting.remove(task_id)

    def _heard(self, task_id: str, outcomes: list[Outcome]) -> Iterator[Outcome]:
        if task_id in self._out:
            self._out.discard(task_id)
            self._list.forget(task_id)
            yield from self._settled(outcomes)

    def _settled(self, outcomes: list[Outcome]) -> Iterator[Outcome]:
        """Noted in the ledgers, which this side alone writes."""
        for outcome in outcomes:
            path = Path(outcome.step.output)
            if (outcome.ok or outcome.partial) and path.exists():
                note_landing(outcome, path, ledgers=self._ledgers)
            self._list.forget_landed(outcome.step.output)
            self._done_seconds += group_seconds((outcome.step,))
            self._finished += 1
            yield outcome

    def _look_after(self, alive: set[str]) -> Iterator[Outcome]:
        if time.monotonic() - self._reaped < _SECONDS_BETWEEN_REAPS:
            return
        self._reaped = time.monotonic()
        for orphan in self._list.orphans():
            self._list.again(orphan)
        for task_id in list(self._out):
            refusals, tries = self._list.refusals(task_id), self._list.tries(task_id)
            if tries is None:
                yield from self._unknown(task_id)
            elif tries >= _TRIES:
                text = f"{_TRIES} machines or workers died while working on this file. The rest continued."
                yield from self._given_up(task_id, text)
            elif alive and alive <= set(refusals):
                yield from self._given_up(task_id, f"No machine can do it: {next(iter(refusals.values()))}")

    def _unknown(self, task_id: str) -> Iterator[Outcome]:
        """A task that went from the list: another run makes its results now, or Redis forgot everything."""
        if self._list.owners([step.output for step in self._groups[task_id]]) - {task_id}:
            yield from self._given_up(task_id, "Another run is making this result.")
        else:
            self._out.discard(task_id)
            self._waiting.insert(0, task_id)

    def _given_up(self, task_id: str, text: str) -> Iterator[Outcome]:
        self._list.drop(task_id)
        yield from self._heard(task_id, [Outcome(step=step, ok=False, error=text) for step in self._groups[task_id]])

    def _progress(self, anybody: bool) -> Progress:
        shares = {task: share for task, share in self._list.shares(self._id).items() if task in self._out}
        under_way = sum(group_seconds(self._groups[task]) * share for task, share in shares.items())
        rest = sum(group_seconds(self._groups[task]) for task in (*self._waiting, *self._out))
        parts = tuple((self._groups[task][0].source_id, share) for task, share in shares.items())
        return Progress(
            done=self._done_seconds + under_way, total=self._done_seconds + rest, unit=Unit.SECONDS, parts=parts,
            step="converting" if anybody else "waiting for a machine that takes work", finished=self._finished,
            items=self._finished + sum(len(self._groups[task]) for task in (*self._waiting, *self._out)),
        )  # fmt: skip
