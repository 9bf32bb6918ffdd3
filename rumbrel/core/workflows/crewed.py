"""Tasks carried out by a crew, with one Progress for all of them."""

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

from rumbrel.core.crew import Crew, Death, Tell
from rumbrel.core.progress import Progress, Unit

__all__ = ["carried_out"]

Task = TypeVar("Task")
Result = TypeVar("Result")


def carried_out(
    work: Callable[[Task, Tell], Result],
    tasks: Sequence[Task],
    *,
    jobs: int,
    weigh: Callable[[Task], float],
    unit: Unit,
    step: str,
    lost: Callable[[Task, Death], Result],
) -> Iterator[Result | Progress]:
    """Yield results as they come, with Progress in between that counts what the tasks weigh in units. Nothing for no
    tasks. Closing the iterator stops the work."""
    if not tasks:
        return
    weights, finished = [weigh(task) for task in tasks], 0
    with Crew(work, tasks, jobs=jobs, lost=lost) as crew:
        for event in crew.results():
            if event is not None:
                finished += 1
                yield event.result
            done = sum(share * weight for share, weight in zip(crew.shares(), weights, strict=True))
            yield Progress(done=done, total=sum(weights), unit=unit, step=step, finished=finished, items=len(tasks))
