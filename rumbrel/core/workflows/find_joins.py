"""Which neighbours on a disc are one recording."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from rumbrel.core.crew import Tell
from rumbrel.core.disc.design import DiscDesign, running_on
from rumbrel.core.disc.joins import meet_without_a_break
from rumbrel.core.disc.layout import Programme
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Progress, Report, Unit, no_report

from .crewed import carried_out
from .disc_sounds import Sound, programme_of

__all__ = ["Pair", "find_meetings", "may_meet", "run_on_where_shown", "touching"]

Pair = tuple[int, int]
"""The sounds of two neighbours, the earlier one first."""


def touching(before: Facts | None, after: Facts | None) -> bool:
    """Whether two sounds are stretches of one file of which the second begins where the first ends."""
    if before is None or after is None or before.stretch is None or after.stretch is None:
        return False
    return before.path == after.path and before.stretch.end_sample == after.stretch.start_sample


def may_meet(before: Facts, after: Facts) -> bool:
    """Whether two sounds are worth comparing: tracks of one album in one shape."""
    album = before.tags.first("album")
    shape = (before.sample_rate, before.channels)
    return bool(album) and album == after.tags.first("album") and shape == (after.sample_rate, after.channels)


@dataclass(frozen=True, slots=True)
class _PairTask:
    pair: Pair
    before: Programme
    after: Programme


def _meets(task: _PairTask, tell: Tell) -> tuple[Pair, bool]:
    tell(0.0)
    return task.pair, meet_without_a_break(task.before, task.after)


def find_meetings(pairs: Sequence[tuple[Pair, Facts, Facts]], *, jobs: int) -> Iterator[tuple[Pair, bool] | Progress]:
    """Yield (pair, whether the sound goes on from the one into the other), with Progress in between. Tracks of one
    album in the same shape are compared; others are no candidates."""
    tasks = [_PairTask(pair, programme_of(before), programme_of(after)) for pair, before, after in pairs]
    yield from carried_out(
        _meets, tasks, jobs=jobs, weigh=lambda task: task.before.samples / task.before.sample_rate, unit=Unit.SECONDS,
        step="looking for recordings that run on", lost=lambda task, death: (task.pair, False),
    )  # fmt: skip


def run_on_where_shown(
    design: DiscDesign, sounds: Mapping[int, Sound], *, jobs: int, report: Report = no_report
) -> DiscDesign:
    """The design with every two neighbours joined that are shown to be one recording and have no gap of their own."""
    known: dict[int, tuple[Pair, Facts, Facts]] = {}
    on: set[int] = set()
    for before, after in zip(design.kept, design.kept[1:], strict=False):
        one, other = sounds[before.source_id].facts, sounds[after.source_id].facts
        if one is None or other is None or after.gap_sectors is not None:
            continue
        if touching(one, other):
            on.add(after.key)
        elif one.usable and other.usable and may_meet(one, other):
            known[after.key] = ((before.source_id, after.source_id), one, other)
    met = set()
    for event in find_meetings(list(known.values()), jobs=jobs):
        if isinstance(event, Progress):
            report(event)
        elif event[1]:
            met.add(event[0])
    on |= {key for key, (pair, _, _) in known.items() if pair in met}
    return running_on(design, on, True)
