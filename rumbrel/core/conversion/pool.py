"""Run many Steps on all cores, those of one source together."""

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from rumbrel.core.crew import Crew, Death, Tell
from rumbrel.core.files import remove_working, working_path
from rumbrel.core.forecast.steps import Step
from rumbrel.core.progress import Progress, Unit

from .carry_out import Watch, carry_out, carry_out_group
from .landing import Landings, note_landing
from .outcome import Outcome

__all__ = ["Group", "group_seconds", "grouped", "run_steps"]

Group = tuple[Step, ...]
"""Steps of one source, which are carried out together."""


def _work(group: Group, tell: Tell, *, checks: bool, ledgers: Mapping[str, Path], landings: Landings) -> list[Outcome]:
    """Carry out a group; what a worker that was killed had landed of it is taken as it is."""

    def landing(outcome: Outcome, working: Path) -> None:
        note_landing(outcome, working, ledgers=ledgers)
        landings.note(outcome, working)

    landed = [outcome for step in group if (outcome := landings.outcome(step)) is not None]
    there = {outcome.step.output for outcome in landed}
    left = [step for step in group if step.output not in there]
    begun = time.perf_counter()
    made = carry_out_group(left, Watch(tell=tell, landing=landing, checks=checks))
    each = (time.perf_counter() - begun) / max(1, len(made))
    return landed + [replace(outcome, work_seconds=each) for outcome in made]


def _lost(group: Group, death: Death, *, landings: Landings) -> list[Outcome]:
    text = death.text(Path(group[0].source.path).name)
    return [
        landings.outcome(step) or Outcome(step=step, ok=False, error=text, may_pass=not death.crashed) for step in group
    ]


def _sweep(group: Group) -> None:
    for step in group:
        remove_working(working_path(Path(step.output)))


def group_seconds(group: Group) -> float:
    """Seconds of sound that a group's results hold in sum."""
    return sum(step.source.duration_seconds for step in group)


def grouped(steps: Sequence[Step], in_order: bool) -> list[Group]:
    """The longest first, so that the cores end together, unless somebody waits for them in their order."""
    by_source: dict[str, list[Step]] = {}
    for step in steps:
        by_source.setdefault(step.source.key, []).append(step)
    groups = [tuple(group) for group in by_source.values()]
    return groups if in_order else sorted(groups, key=group_seconds, reverse=True)


def run_steps(
    steps: Sequence[Step],
    *,
    jobs: int,
    checks: bool = True,
    ledgers: Mapping[str, Path] | None = None,
    holds: Callable[[], bool] = lambda: False,
    in_order: bool = False,
) -> Iterator[Outcome | Progress]:
    """Yield an Outcome as each step ends, with Progress in seconds of sound in between; the order is that
    of finishing. Sources are begun the longest first, or in_order as they come. ledgers are the files, by the targets'
    slugs, in which results are noted as they land. While holds says so, no source is begun.

    Closing the iterator, or an exception thrown into it, stops the work: finished results stay,
    what is begun vanishes.
    """
    working = [step for step in steps if step.writes and step.output]
    for step in steps:
        if not (step.writes and step.output):
            yield carry_out(step)
    if not working:
        return
    groups = grouped(working, in_order)
    weights = [group_seconds(group) for group in groups]
    finished = 0
    with ExitStack() as stack:
        landings = Landings(Path(stack.enter_context(TemporaryDirectory(prefix="rumbrel-"))))
        work = partial(_work, checks=checks, ledgers=ledgers or {}, landings=landings)
        lost = partial(_lost, landings=landings)
        crew = stack.enter_context(Crew(work, groups, jobs=jobs, lost=lost, before_again=_sweep, holds=holds))
        for event in crew.results():
            if event is not None:
                finished += len(event.result)
                for outcome in event.result:
                    landings.forget(outcome.step)
                yield from event.result
            shares = crew.shares()
            done = sum(share * weight for share, weight in zip(shares, weights, strict=True))
            parts = tuple((groups[number][0].source_id, shares[number]) for number in crew.under_way())
            yield Progress(
                done=done, parts=parts, total=sum(weights), unit=Unit.SECONDS, step="converting", finished=finished,
                items=len(working),
            )  # fmt: skip
