"""How long work takes on this machine, from what earlier work took."""

from collections import defaultdict
from collections.abc import Iterable

from django.db import transaction

from rumbrel.core.conversion import Outcome
from rumbrel.core.crew import default_jobs
from rumbrel.core.forecast import Action, Step

from ..models import MeasuredSpeed

__all__ = ["SpeedNotes", "expected_seconds"]

_MOST_KEPT_SECONDS = 6 * 3600.0
"""Beyond so much of one kind, what is old counts half."""


def _work(step: Step) -> str:
    return step.encoding if step.action is Action.CONVERT else str(step.action)


class SpeedNotes:
    """Gathers what finished work took, and keeps it now and then."""

    def __init__(self) -> None:
        self._sums: dict[str, list[float]] = defaultdict(lambda: [0.0, 0.0])

    def take(self, outcome: Outcome) -> None:
        if outcome.ok and outcome.work_seconds > 0 and outcome.step.writes:
            sums = self._sums[_work(outcome.step)]
            sums[0] += outcome.step.source.duration_seconds
            sums[1] += outcome.work_seconds

    def keep(self) -> None:
        with transaction.atomic():
            for work, (sound, spent) in self._sums.items():
                row, _ = MeasuredSpeed.objects.get_or_create(work=work)
                share = 0.5 if row.sound_seconds > _MOST_KEPT_SECONDS else 1.0
                row.sound_seconds = share * row.sound_seconds + sound
                row.work_seconds = share * row.work_seconds + spent
                row.save()
        self._sums.clear()


def expected_seconds(steps: Iterable[Step]) -> float | None:
    """How long steps will take on all cores; None where this machine has not done their kind of work yet."""
    speeds = {
        row.work: row.sound_seconds / row.work_seconds for row in MeasuredSpeed.objects.filter(work_seconds__gt=0)
    }
    by_work: dict[str, float] = defaultdict(float)
    longest = 0.0
    for step in steps:
        if step.writes:
            work = _work(step)
            if not speeds.get(work):
                return None
            by_work[work] += step.source.duration_seconds
            longest = max(longest, step.source.duration_seconds / speeds[work])
    total = sum(seconds / speeds[work] for work, seconds in by_work.items())
    return max(longest, total / default_jobs())
