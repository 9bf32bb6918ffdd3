"""Take steps from the work list and carry them out: what a machine does that lends its cores."""

import os
import socket
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.errors import Cancelled
from rumbrel.core.files import remove_working, working_path
from rumbrel.core.forecast.steps import Step

from .carry_out import Watch, carry_out_group
from .landing import found_of, restored
from .outcome import Outcome
from .work_list import SECONDS_BETWEEN_BEATS, Task, WorkList

__all__ = ["Mounts", "take_steps", "worker_name"]

_SECONDS_BETWEEN_TELLS = 0.3
_SECONDS_AFTER_A_REFUSAL = 1.0


@dataclass(frozen=True, slots=True)
class Mounts:
    """Where the serving machine's folders lie here: (there, here) by pairs, and the folders that may be used here."""

    pairs: tuple[tuple[Path, Path], ...] = ()
    allowed: tuple[Path, ...] = ()

    def here(self, text: str) -> str:
        """A path of the serving machine's as this one sees it."""
        path = Path(text)
        for there, here in self.pairs:
            if path.is_relative_to(there):
                return str(here / path.relative_to(there))
        return text

    def said_there(self, text: str) -> str:
        """A sentence with this machine's paths as the serving machine has them."""
        for there, here in self.pairs:
            text = text.replace(str(here), str(there))
        return text

    def step_here(self, step: Step) -> Step:
        source = replace(step.source, path=self.here(step.source.path))
        return replace(
            step, source=source, output=self.here(step.output), cover=self.here(step.cover) if step.cover else ""
        )

    def objection(self, step: Step) -> str:
        """Why a step of this machine's paths cannot be done here; "" where it can. Links are followed first."""
        source, folder = Path(step.source.path), Path(step.output).parent
        for path, what in ((source, "the file"), (folder, "the folder for results")):
            inside = any(path.resolve().is_relative_to(root.resolve()) for root in self.allowed)
            if not inside:
                return f"{what} {path} lies outside the folders that this machine may use (RUMBREL_ROOTS)"
        there = (
            (source, source.is_file()),
            (folder, folder.is_dir()),
            (step.cover, not step.cover or Path(step.cover).is_file()),
        )
        unseen = next((path for path, seen in there if not seen), None)
        return f"{unseen} cannot be found here. Is its disk mounted, and is RUMBREL_MOUNTS correct?" if unseen else ""


class _Heart(threading.Thread):
    """Says that a worker lives, also while a step takes long."""

    def __init__(self, work_list: WorkList, name: str) -> None:
        super().__init__(name="heart", daemon=True)
        self._list, self._name, self.ended = work_list, name, threading.Event()

    def run(self) -> None:
        import redis

        while not self.ended.wait(SECONDS_BETWEEN_BEATS):
            try:
                self._list.beat(self._name)
            except redis.RedisError:
                # The list is away for the moment; whoever waits for it says so.
                continue


def worker_name(number: int) -> str:
    return f"{socket.gethostname()}-{os.getpid()}-{number}"


def take_steps(work_list: WorkList, name: str, mounts: Mounts, *, ended: threading.Event) -> None:
    """Take tasks and carry them out until the end is asked for; what is in hand then is given back.

    Raises redis.RedisError where the list cannot be reached.
    """
    heart = _Heart(work_list, name)
    work_list.beat(name)
    heart.start()
    try:
        while not ended.is_set():
            task = work_list.take(name, seconds=1.0)
            if task is not None:
                _do(work_list, name, mounts, task, ended)
    finally:
        heart.ended.set()
        heart.join()
        work_list.leave(name, broken=not ended.is_set())


def _do(work_list: WorkList, name: str, mounts: Mounts, task: Task, ended: threading.Event) -> None:
    here = [mounts.step_here(step) for step in task.steps]
    reason = next((text for step in here if (text := mounts.objection(step))), "")
    if reason:
        work_list.refuse(name, task, reason)
        ended.wait(_SECONDS_AFTER_A_REFUSAL)
        return
    work_list.doing(name, Path(task.steps[0].source.path).name)
    begun = time.perf_counter()
    try:
        outcomes = _carried_out(work_list, task, here, ended)
    except Cancelled:
        if not ended.is_set():
            work_list.let_go(name, task)
        return
    spent = time.perf_counter() - begun
    records = [found_of(replace(each, error=mounts.said_there(each.error), work_seconds=spent / len(outcomes)))
               for each in outcomes]  # fmt: skip
    seconds = sum(step.source.duration_seconds for step in task.steps)
    work_list.finish(name, task, records, sound_seconds=seconds, work_seconds=spent)


def _carried_out(work_list: WorkList, task: Task, here: Sequence[Step], ended: threading.Event) -> list[Outcome]:
    """In the order of the task's steps. What somebody who died had brought into place is taken as it is."""
    as_there = {step.output: theirs for step, theirs in zip(here, task.steps, strict=True)}
    told = 0.0

    def tell(share: float) -> None:
        nonlocal told
        if ended.is_set():
            raise Cancelled("Stopped. Nothing half-written is left.")
        if time.monotonic() - told >= _SECONDS_BETWEEN_TELLS:
            told = time.monotonic()
            if not work_list.tell(task, share):
                raise Cancelled("Stopped. Nothing half-written is left.")

    def landing(outcome: Outcome, working: Path) -> None:
        if not work_list.tell(task, 1.0):
            raise Cancelled("Stopped. Nothing half-written is left.")
        work_list.note_landed(as_there[outcome.step.output], working, found_of(outcome))

    made: dict[str, Outcome] = {}
    left = []
    for step in here:
        if task.tries:
            remove_working(working_path(Path(step.output)))
        found = work_list.landed(as_there[step.output], Path(step.output)) if task.tries else None
        if found is None:
            left.append(step)
        else:
            made[step.output] = restored(step, found)
    for outcome in carry_out_group(left, Watch(tell=tell, landing=landing)):
        made[outcome.step.output] = outcome
    return [made[step.output] for step in here]
