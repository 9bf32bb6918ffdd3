"""Verify: results that are there already against their sources, on all cores; nothing is written."""

from collections.abc import Iterator, Sequence
from pathlib import Path

from rumbrel.core.conversion import Outcome, verify_step
from rumbrel.core.crew import Death, Tell
from rumbrel.core.forecast import Step
from rumbrel.core.progress import Progress, Unit

from .crewed import carried_out

__all__ = ["verify_steps"]


def _verify(step: Step, tell: Tell) -> Outcome:
    tell(0.0)
    return verify_step(step)


def _lost(step: Step, death: Death) -> Outcome:
    names = f"{Path(step.source.path).name} or its result"
    return Outcome(step=step, ok=False, error=death.text(names), undecided=not death.crashed)


def verify_steps(steps: Sequence[Step], *, jobs: int) -> Iterator[Outcome | Progress]:
    """Yield what became of each comparison, with Progress in seconds of sound. Closing the iterator stops the work."""
    longest_first = sorted(steps, key=lambda step: -step.source.duration_seconds)
    return carried_out(
        _verify, longest_first, jobs=jobs, weigh=lambda step: max(0.1, step.source.duration_seconds),
        unit=Unit.SECONDS, step="verifying", lost=_lost,
    )  # fmt: skip
