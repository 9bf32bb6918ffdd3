"""Deliver: plan onto a volume, convert where needed, copy in playing order, compare there, write the lists."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.delivery import Delivered, FoundList, PlannedList, WrittenList, in_folders, plan_lists, write_planned
from rumbrel.core.delivery.onto_volume import put_on_volume
from rumbrel.core.errors import OutputError
from rumbrel.core.files import remove_leftovers
from rumbrel.core.forecast import (
    Action,
    Entry,
    Forecast,
    ForecastOptions,
    ResultLedger,
    Source,
    Step,
    WhenPresent,
    forecast_batch,
)
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.places import Volume
from rumbrel.core.progress import Progress, Report, Unit, no_report, within
from rumbrel.core.targets import Target

from .convert import ConvertPlan, TargetPlan, measure_plan

__all__ = ["DeliveryPlan", "deliver", "plan_delivery"]


@dataclass(frozen=True, slots=True, kw_only=True)
class DeliveryPlan:
    """Steps in playing order with their destinations on the volume, and the lists that go beside them.

    left_over are files of earlier deliveries in the folders of this one that it has no use for: a player that
    plays folders plays them too.
    """

    volume: Volume
    target: Target
    steps: tuple[Step, ...]
    lists: tuple[PlannedList, ...]
    needed_bytes: int
    ledger: ResultLedger | None = None
    left_over: tuple[str, ...] = ()

    @property
    def fits(self) -> bool:
        return self.needed_bytes <= self.volume.free_bytes


def plan_delivery(
    sources: Sequence[Source],
    target: Target,
    volume: Volume,
    *,
    lists: Sequence[FoundList] = (),
    inspect: Callable[[Path], Facts] = inspect_file,
    ledger: ResultLedger | None = None,
) -> DeliveryPlan:
    """Plan every source onto a volume, in the order given. ledger is what earlier deliveries put there.

    Where the target knows no lists but folders, each list becomes a folder of numbered tracks.
    """
    folders = target.playlists.folder_each
    options = ForecastOptions(
        when_present=WhenPresent.SKIP,
        file_system=volume.kind.file_system,
        keeps_in_line=True,
        pattern="{number:03} {title}" if folders and not any(found.named for found in lists) else "",
    )
    placed = in_folders(sources, lists) if folders else list(sources)
    forecast = forecast_batch(placed, target, volume.root, options=options, inspect=inspect, ledger=ledger)
    needed = volume.room_needed([step.after.most_bytes for step in forecast.working if step.after])
    outputs = {step.source_id: step.output for step in forecast.steps}
    planned = plan_lists(lists, target, volume.root, volume.system, outputs)
    return DeliveryPlan(
        volume=volume, target=target, steps=forecast.steps, lists=planned, needed_bytes=needed, ledger=ledger,
        left_over=_left_over(forecast.steps, ledger) if folders else (),
    )  # fmt: skip


def _left_over(steps: Sequence[Step], ledger: ResultLedger | None) -> tuple[str, ...]:
    if ledger is None:
        return ()
    wanted = {step.output for step in steps}
    folders = {str(Path(output).parent) for output in wanted if output}
    return tuple(output for output in ledger.outputs() if output not in wanted and str(Path(output).parent) in folders)


def deliver(
    plan: DeliveryPlan, work: Path, *, jobs: int, report: Report = no_report
) -> Iterator[Delivered | WrittenList]:
    """Convert into a work folder, then copy one by one in playing order and compare each there; then the lists.

    What is on the volume already stays. Raises OutputError when there is no room; a volume that
    vanishes fails the tracks left, and the next call continues.
    """
    if not plan.fits:
        raise OutputError(
            f"Not delivered: {plan.needed_bytes:,} bytes are needed in whole clusters and {plan.volume.free_bytes:,} "
            "are free. Free some space or leave tracks out."
        )
    remove_leftovers(plan.volume.root)
    whole = Progress(done=0, total=max(1, len(plan.steps)), unit=Unit.TRACKS)
    steps = _levelled(plan, jobs, within(report, whole, 0.0, 0.3))
    made = _converted(steps, plan.volume, work, jobs, within(report, whole, 0.3, 0.7))
    finished: list[Delivered] = []
    for number, step in enumerate(steps, 1):
        result = put_on_volume(step, made.get(step.output), plan.volume)
        finished.append(result)
        if plan.ledger is not None and result.ok and result.digest and step.work:
            plan.ledger.add(_entry(step, result))
        yield result
        share = 0.7 + 0.3 * number / len(steps)
        report(replace(whole, done=share * whole.total, step="copying", finished=number, items=len(steps)))
    there = {Path(result.output): result.step.source for result in finished if result.ok and result.output}
    for planned in plan.lists:
        yield write_planned(planned, there)


def _entry(step: Step, result: Delivered) -> Entry:
    status = Path(result.output).stat()
    return Entry(
        source=str(Path(step.source.path).absolute()), part=step.source.part, source_bytes=step.source.size_bytes,
        source_ns=step.source.modified_ns, work=step.work, output=result.output, output_bytes=status.st_size,
        output_ns=status.st_mtime_ns,
    )  # fmt: skip


def _levelled(plan: DeliveryPlan, jobs: int, report: Report) -> tuple[Step, ...]:
    """The level that the target asks for."""
    forecast = Forecast(steps=plan.steps, free_bytes=plan.volume.free_bytes)
    part = TargetPlan(
        target=plan.target, destination=plan.volume.root, rule=plan.target.level, trims=False, forecast=forecast
    )
    return measure_plan(ConvertPlan(parts=(part,)), jobs=jobs, report=report).steps


def _converted(steps: Sequence[Step], volume: Volume, work: Path, jobs: int, report: Report) -> dict[str, Outcome]:
    """Outcomes by destination on the volume, their files in the work folder under the same relative names."""
    work.mkdir(parents=True, exist_ok=True)
    local_steps, by_output = [], {}
    for step in steps:
        # A copy that gets tags of its own is not the source any more.
        if step.action in (Action.CONVERT, Action.REWRAP) or (step.action is Action.COPY and step.changes_tags):
            local = work / Path(step.output).relative_to(volume.root)
            local_steps.append(replace(step, output=str(local), replaces=True))
            by_output[str(local)] = step.output
    made: dict[str, Outcome] = {}
    for event in run_steps(local_steps, jobs=jobs):
        if isinstance(event, Outcome):
            made[by_output[event.step.output]] = event
        else:
            report(event)
    return made
