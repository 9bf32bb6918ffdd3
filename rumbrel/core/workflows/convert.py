"""Convert: plan every source for every target, measure once, run, write the lists, remember in the ledger."""

from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.conversion import Outcome, landed_outcome, levelled, measure_all, run_steps, verify_step
from rumbrel.core.delivery import FoundList, PlannedList, WrittenList, plan_lists, write_planned
from rumbrel.core.errors import TargetError
from rumbrel.core.files import remove_leftovers
from rumbrel.core.forecast import Entry, Forecast, ForecastOptions, ResultLedger, Source, Step, forecast_batch
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.progress import Progress, Report, no_report
from rumbrel.core.targets import LevelRule, Target

__all__ = [
    "ConvertOptions",
    "ConvertPlan",
    "Gathering",
    "LevelWish",
    "TargetPlan",
    "measure_plan",
    "plan_conversion",
    "run_plan",
    "verify_plan",
]

Inspect = Callable[[Path], Facts]


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelWish:
    """What the user wants of the level beside the target's own rule; None leaves it to that."""

    mode: str | None = None
    loudness_lufs: float | None = None
    ceiling_dbtp: float | None = None
    limits: bool = False

    def rule_for(self, target: Target) -> LevelRule:
        """Raises TargetError for a figure that cannot be."""
        rule = target.level
        if self.mode is not None:
            rule = replace(rule, mode=self.mode)
        if self.loudness_lufs is not None:
            if not -40 <= self.loudness_lufs <= -5:
                raise TargetError("A loudness lies between −40 and −5 LUFS.")
            rule = replace(rule, loudness_lufs=self.loudness_lufs)
        if self.ceiling_dbtp is not None:
            if not -20 <= self.ceiling_dbtp <= 0:
                raise TargetError("A ceiling lies between −20 and 0 dBTP.")
            rule = replace(rule, ceiling_dbtp=self.ceiling_dbtp)
        if self.limits:
            if rule.mode not in ("track", "album"):
                raise TargetError("A limiter needs a level to be set: --level track or album.")
            rule = replace(rule, limits=True)
        return rule


Carrier = Callable[..., Iterator[Outcome | Progress]]
"""As run_steps."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ConvertOptions:
    """What the user chooses for all targets."""

    forecast: ForecastOptions = ForecastOptions()
    level: LevelWish = LevelWish()


@dataclass(frozen=True, slots=True, kw_only=True)
class Gathering:
    """What is to be converted: sources by their ids, and the lists among them."""

    sources: tuple[Source, ...]
    lists: tuple[FoundList, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetPlan:
    """One target's part: every step at its destination, and the lists that go beside the results. beside says that
    the results go beside their sources, wherever those are."""

    target: Target
    destination: Path
    rule: LevelRule
    trims: bool
    forecast: Forecast
    lists: tuple[PlannedList, ...] = ()
    beside: bool = False

    def sweep(self) -> None:
        """Remove what a killed run left."""
        if not self.beside:
            remove_leftovers(self.destination)
            return
        for folder in {Path(step.output).parent for step in self.forecast.working}:
            remove_leftovers(folder, below=False)

    @property
    def needs_measuring(self) -> bool:
        """Whether the sound must be measured before anything of this is written."""
        return (self.rule.mode != "none" or self.trims) and bool(self.forecast.working)


@dataclass(frozen=True, slots=True, kw_only=True)
class ConvertPlan:
    """All targets' parts, in the order they were named."""

    parts: tuple[TargetPlan, ...]

    @property
    def steps(self) -> tuple[Step, ...]:
        return tuple(step for part in self.parts for step in part.forecast.steps)

    def promised_lists(self) -> Iterator[WrittenList]:
        """What becomes of the lists when all goes well."""
        for part in self.parts:
            for planned in part.lists:
                yield WrittenList(planned=planned, tracks=len(planned.tracks), error=planned.found.unreadable)


def plan_conversion(
    gathering: Callable[[Target], Gathering],
    targets: Sequence[Target],
    destination: Callable[[Target], Path],
    *,
    options: ConvertOptions,
    inspect: Inspect,
    ledger: Callable[[Path], ResultLedger | None] = lambda folder: None,
    writes_lists: bool = True,
) -> ConvertPlan:
    """Plan every source for every target, whose results go to its destination. Writes nothing; reads what inspect
    reads.

    gathering may give other sources to a target that wants its lists in folders. ledger is asked for
    what earlier runs left at a destination. Raises TargetError, OutputError, PlaylistError.
    """
    parts = []
    taken: dict[Path, set[str]] = {}
    for target in targets:
        folder = destination(target)
        found, rule, known = gathering(target), options.level.rule_for(target), ledger(folder)
        wishes = replace(options.forecast, level=rule)
        names = taken.setdefault(folder, set())
        forecast = forecast_batch(
            found.sources, target, folder, options=wishes, inspect=inspect, ledger=known, taken=names
        )
        lists = _lists(found.lists, target, folder, wishes, forecast.steps, known) if writes_lists else ()
        parts.append(
            TargetPlan(
                target=target, destination=folder, rule=rule, trims=wishes.trims, forecast=forecast, lists=lists,
                beside=wishes.beside,
            )
        )  # fmt: skip
    return ConvertPlan(parts=tuple(parts))


def _lists(
    found: Sequence[FoundList],
    target: Target,
    folder: Path,
    wishes: ForecastOptions,
    steps: Sequence[Step],
    ledger: ResultLedger | None,
) -> tuple[PlannedList, ...]:
    return plan_lists(
        found,
        target,
        folder,
        wishes.naming_for(target).system,
        {step.source_id: step.output for step in steps},
        when_present=wishes.when_present,
        ours=lambda path: ledger is not None and ledger.made(str(path)) is not None,
    )


def measure_plan(
    plan: ConvertPlan,
    *,
    jobs: int,
    inspect: Inspect = inspect_file,
    report: Report = no_report,
    holds: Callable[[], bool] = lambda: False,
) -> ConvertPlan:
    """The plan with the gains and cuts that its targets ask for. Every track is measured once for each
    number of channels its results have, whole albums also where only some of their tracks are to be made; none is
    begun while holds says so."""
    wanting = [part for part in plan.parts if part.needs_measuring]
    members = {part.target.slug: _members(part, inspect) for part in wanting}
    requests = [(step.source, step.heard_channels) for steps in members.values() for step in steps]
    if not requests:
        return plan
    measured = measure_all(requests, jobs=jobs, report=report, holds=holds)

    def with_levels(part: TargetPlan) -> TargetPlan:
        if part.target.slug not in members:
            return part
        steps = levelled(
            part.forecast.steps, measured, rule=part.rule, members=members[part.target.slug], trim=part.trims
        )
        return replace(part, forecast=replace(part.forecast, steps=steps))

    return ConvertPlan(parts=tuple(with_levels(part) for part in plan.parts))


def _members(part: TargetPlan, inspect: Inspect) -> list[Step]:
    """What is to be measured: what is written, and for albums what lies beside it in its folder."""
    working = {Path(step.source.path).parent for step in part.forecast.working}
    by_album = part.rule.mode in ("album", "tags")
    members = []
    for step in part.forecast.steps:
        if not (step.writes or (by_album and Path(step.source.path).parent in working)):
            continue
        if not step.source.sample_rate:
            # What an earlier run finished was passed over unopened.
            step = replace(step, source=inspect(Path(step.source.key)))
        if step.source.usable:
            members.append(step)
    return members


def run_plan(
    plan: ConvertPlan,
    *,
    jobs: int,
    ledger: Callable[[Path], ResultLedger | None] = lambda folder: None,
    holds: Callable[[], bool] = lambda: False,
    carrier: Carrier = run_steps,
) -> Generator[Outcome | Progress | WrittenList, None, None]:
    """Carry out every step, each source decoded once for all its targets; then the lists of what is there.

    Finished results are noted in the ledger as they land. Closing the iterator stops the work: what is
    finished stays, what was begun vanishes; the lists then hold what is there. carrier carries the steps out: this
    machine's own pool, or whoever takes them from a work list. While holds says so, nothing new begins.
    """
    outcomes: list[Outcome] = []
    ledgers = {part.target.slug: ledger(part.destination) for part in plan.parts}
    for part in plan.parts:
        part.sweep()
    try:
        for event in _run_steps(plan.steps, ledgers, jobs=jobs, holds=holds, carrier=carrier):
            if isinstance(event, Outcome):
                outcomes.append(event)
            yield event
    except BaseException:
        # Whatever ended the work, a kill of the command or the reader's loss of interest: what is there is listed.
        list(written_lists(plan, outcomes, ledgers))
        raise
    yield from written_lists(plan, outcomes, ledgers)


def _run_steps(
    steps: Sequence[Step],
    ledgers: Mapping[str, ResultLedger | None],
    *,
    jobs: int,
    holds: Callable[[], bool],
    carrier: Carrier,
) -> Iterator[Outcome | Progress]:
    """What an interrupted run had put into place is told first, and not made again."""
    rest = []
    for step in steps:
        landed = landed_outcome(step, ledgers[step.target.slug]) if step.writes else None
        if landed is None:
            rest.append(step)
        else:
            yield landed
    files = {slug: known.path for slug, known in ledgers.items() if known is not None}
    yield from carrier(rest, jobs=jobs, ledgers=files, holds=holds)


def written_lists(
    plan: ConvertPlan, outcomes: Sequence[Outcome], ledgers: Mapping[str, ResultLedger | None]
) -> Iterator[WrittenList]:
    """Write the lists of every target, of the results that are there."""
    there = {Path(outcome.step.output): outcome.step.source for outcome in outcomes if outcome.ok}
    for part in plan.parts:
        for planned in part.lists:
            yield _written_list(planned, there, ledgers.get(part.target.slug))


def _written_list(planned: PlannedList, there: Mapping[Path, Facts], ledger: ResultLedger | None) -> WrittenList:
    # What an earlier run made was passed over unopened, so the result itself has to say what it is.
    known = {
        path: there[path] if there[path].sample_rate else inspect_file(path) for path in planned.tracks if path in there
    }
    written = write_planned(planned, known)
    if written.tracks and ledger is not None:
        status = planned.found.path.stat()
        result = planned.path.stat()
        ledger.add(
            Entry(
                source=str(planned.found.path.absolute()), source_bytes=status.st_size, source_ns=status.st_mtime_ns,
                work="list", output=str(planned.path), output_bytes=result.st_size, output_ns=result.st_mtime_ns,
            )
        )  # fmt: skip
    return written


def verify_plan(plan: ConvertPlan) -> Iterator[Outcome]:
    """Compare what is there with what would be made; nothing is written."""
    for step in plan.steps:
        yield verify_step(step)
