"""Deliver: plan onto a volume, convert where needed, copy in playing order, compare there, write the lists."""

import logging
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import partial
from pathlib import Path

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.delivery import (
    Delivered,
    FoundList,
    PlannedList,
    WrittenList,
    in_folders,
    plan_lists,
    put_on_volume,
    relist,
    rename_there,
    write_planned,
)
from rumbrel.core.delivery.onto_volume import taken_out
from rumbrel.core.delivery.order import Ordered, OrderForeseen, foresee_order, put_in_order
from rumbrel.core.delivery.player_view import is_list, is_sound
from rumbrel.core.disc.subsets import smallest_cover, smallest_cover_of
from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.files import (
    copy_compared,
    file_digest,
    move_into_place,
    output_errors,
    remove_leftovers,
    remove_working,
    working_file,
)
from rumbrel.core.forecast import (
    SAME_CONTENT,
    Action,
    Entry,
    Forecast,
    ForecastOptions,
    ResultLedger,
    Source,
    Step,
    WhenPresent,
    forecast_batch,
    source_state,
)
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.places import Volume, VolumeEntry, list_volume
from rumbrel.core.progress import Progress, Report, Unit, no_report, within
from rumbrel.core.targets import Target

from .convert import ConvertPlan, TargetPlan, measure_plan

__all__ = ["DeliveryPlan", "Fate", "LeaveOut", "deliver", "fate_of", "leave_outs", "plan_delivery", "plan_put_right"]


logger = logging.getLogger(__name__)


class Fate(StrEnum):
    """What a delivery does about one track."""

    MADE = "made first"
    COPIED = "copied"
    RENAMED = "renamed there"
    THERE = "there already"
    SAME = "the same is there"
    CANNOT = "cannot"


def fate_of(step: Step, renamed: Collection[str] = ()) -> Fate:
    """renamed are the outputs that are there under other names."""
    if step.output and step.output in renamed:
        return Fate.RENAMED
    if step.action is Action.SKIP:
        return Fate.SAME if step.reason == SAME_CONTENT else Fate.THERE
    if step.action is Action.REFUSE:
        return Fate.CANNOT
    return Fate.MADE if _is_made(step) else Fate.COPIED


def _is_made(step: Step) -> bool:
    """A copy that gets tags of its own is no longer the source."""
    return step.action in (Action.CONVERT, Action.REWRAP) or (step.action is Action.COPY and step.changes_tags)


@dataclass(frozen=True, slots=True, kw_only=True)
class DeliveryPlan:
    """Steps in playing order with their destinations on the volume, and the lists that go beside them.

    needed_bytes is what all of it takes more of the room than now, in whole clusters, short_bytes what is missing at
    the worst moment. left_over are files of earlier deliveries that this one has no use for, and which the player plays
    too; where it was asked to tidy them up they are among unwanted, the files that are removed first (all others are when
    mirroring was asked for), or among renamed: what is there under another name, by its output. retired are files whose
    results take their places, by the results; set_aside those files of the volume that are copied to another place before
    that, by where they lie. order is how the volume plays when it is done; asked are the paths on it that
    are to follow each other so, for a player that goes by their entries.
    """

    volume: Volume
    target: Target
    steps: tuple[Step, ...]
    lists: tuple[PlannedList, ...] = ()
    needed_bytes: int = 0
    short_bytes: int = 0
    ledger: ResultLedger | None = None
    left_over: tuple[str, ...] = ()
    unwanted: tuple[str, ...] = ()
    retired: Mapping[str, str] = field(default_factory=dict)
    set_aside: Mapping[str, str] = field(default_factory=dict)
    renamed: Mapping[str, str] = field(default_factory=dict)
    order: OrderForeseen = field(default_factory=lambda: OrderForeseen(order=()))
    asked: tuple[Path, ...] = ()

    def fate(self, step: Step) -> Fate:
        return fate_of(step, self.renamed)

    @property
    def fits(self) -> bool:
        """Also in the middle of the work, where a new file stands beside the one that it replaces."""
        return self.short_bytes <= 0

    def taken_by(self, step: Step) -> int:
        """What a step's result takes of the room at most; 0 for what is there."""
        if step.output in self.renamed or not step.writes or not step.after:
            return 0
        return self.volume.bytes_taken(step.after.most_bytes)


def plan_delivery(
    sources: Sequence[Source],
    target: Target,
    volume: Volume,
    *,
    lists: Sequence[FoundList] = (),
    inspect: Callable[[Path], Facts] = inspect_file,
    ledger: ResultLedger | None = None,
    pattern: str = "",
    mirrors: bool = False,
    tidies: bool = False,
) -> DeliveryPlan:
    """Plan every source onto a volume, in the order given. ledger is what earlier deliveries put there.

    Where the target knows no lists but folders, each list becomes a folder of numbered tracks. A pattern given
    takes the place of the target's own. With mirrors, the sound files and lists on the volume that are none of this
    delivery are removed; with tidies those that earlier deliveries put there. Either way what is there under another name
    is renamed.
    """
    folders = target.playlists.folder_each
    if folders and not pattern and not any(found.named for found in lists):
        pattern = "{number:03} {title}"
    options = ForecastOptions(
        when_present=WhenPresent.SKIP, file_system=volume.kind.file_system, keeps_in_line=True, pattern=pattern
    )
    placed = in_folders(sources, lists) if folders else list(sources)
    forecast = forecast_batch(placed, target, volume.root, options=options, inspect=inspect, ledger=ledger)
    outputs = {step.source_id: step.output for step in forecast.steps}
    planned = plan_lists(lists, target, volume.root, volume.system, outputs)
    left = _left_over(forecast.steps, ledger, same_folders=bool(folders))
    renamed = _renamed(forecast.steps, left, ledger) if tidies or mirrors else {}
    unwanted = _unwanted(forecast.steps, planned, volume) if mirrors else left if tidies else ()
    plan = DeliveryPlan(
        volume=volume, target=target, steps=forecast.steps, lists=planned, ledger=ledger,
        left_over=() if tidies or mirrors else left, renamed=renamed,
        unwanted=tuple(path for path in unwanted if path not in renamed.values()),
    )  # fmt: skip
    asked = [Path(step.output).relative_to(volume.root) for step in forecast.steps if step.output]
    return _measured_room(_in_order(plan, asked))


def _in_order(plan: DeliveryPlan, asked: Sequence[Path], entries: Sequence[VolumeEntry] | None = None) -> DeliveryPlan:
    """The plan with how the volume plays when it is done."""
    volume, by_name = plan.volume, plan.target.player.order == "names"

    def inner(paths: Iterable[str]) -> list[Path]:
        return [Path(path).relative_to(volume.root) for path in paths if path]

    order = foresee_order(
        list_volume(volume) if entries is None else entries, asked, by_name=by_name,
        new=inner(step.output for step in plan.steps if step.writes),
        gone=set(inner([*plan.unwanted, *plan.renamed.values(), *plan.retired.values()])), counts=is_sound,
    )  # fmt: skip
    return replace(plan, order=order, asked=() if by_name else tuple(asked))


def plan_put_right(
    files: Sequence[Path],
    target: Target,
    volume: Volume,
    *,
    inspect: Callable[[Path], Facts] = inspect_file,
    ids: Sequence[int] = (),
) -> DeliveryPlan:
    """Plan to make files on the volume anew that do not play, each in its own folder, in the place of the old one.
    ids are the sources' ids, else they are counted."""
    sources = [
        Source(id=number, path=path, relative=path.relative_to(volume.root))
        for number, path in zip(ids or range(len(files)), files, strict=True)
    ]
    options = ForecastOptions(
        when_present=WhenPresent.NUMBER, file_system=volume.kind.file_system, beside=True, pattern="{stem}"
    )
    forecast = forecast_batch(sources, target, volume.root, options=options, inspect=inspect)
    steps, retired = [], {}
    for step in forecast.steps:
        old = Path(step.source.path)
        if step.writes and Path(step.output).suffix.lower() == old.suffix.lower():
            step = replace(step, output=str(old), replaces=True)
        elif step.writes:
            retired[step.output] = str(old)
        steps.append(step)
    plan = DeliveryPlan(volume=volume, target=target, steps=tuple(steps), retired=retired)
    # Each new file takes the place of the old one also in the order.
    entries, new_of = list_volume(volume), {old: new for new, old in retired.items()}
    there = [volume.root / entry.relative for entry in entries if is_sound(entry.relative)]
    asked = [Path(new_of.get(str(path), path)).relative_to(volume.root) for path in there]
    return _measured_room(_in_order(plan, asked, entries))


def _left_over(steps: Sequence[Step], ledger: ResultLedger | None, *, same_folders: bool) -> tuple[str, ...]:
    """What earlier deliveries put there, and is of no use to this one; where each list is a folder, only in those of this
    one: other lists have theirs."""
    if ledger is None:
        return ()
    wanted = {step.output for step in steps}
    folders = {str(Path(output).parent) for output in wanted if output}
    return tuple(
        output for output in ledger.outputs()
        if output not in wanted and (not same_folders or str(Path(output).parent) in folders)
    )  # fmt: skip


def _renamed(steps: Sequence[Step], left: Sequence[str], ledger: ResultLedger | None) -> dict[str, str]:
    """Of what is left of earlier deliveries, that which is wanted under another name, by its new one."""
    made = {} if ledger is None else {output: ledger.made(output) for output in left}
    by_work = {(entry.key, entry.work): output for output, entry in made.items() if entry and not entry.partial}
    renamed = {}
    for step in steps:
        key = str(Path(step.source.key).absolute())
        if (
            step.writes
            and not step.replaces
            and (old := by_work.get((key, step.work)))
            and not Path(step.output).exists()
        ):
            entry = made[old]
            if entry and (entry.source_bytes, entry.source_ns) == (step.source.size_bytes, step.source.modified_ns):
                renamed[step.output] = by_work.pop((key, step.work))
    return renamed


def _unwanted(steps: Sequence[Step], lists: Sequence[PlannedList], volume: Volume) -> tuple[str, ...]:
    """Sound files and lists that are none of the delivery, and none of its sources; other files are left alone."""
    wanted = {step.output for step in steps} | {step.source.path for step in steps}
    wanted |= {str(planned.path) for planned in lists}
    there = (volume.root / entry.relative for entry in list_volume(volume))
    return tuple(str(path) for path in there if str(path) not in wanted and (is_sound(path) or is_list(path)))


_LIST_LINE_BYTES = 120
"""About what a line of a list holds beside the file's name."""


def _measured_room(plan: DeliveryPlan) -> DeliveryPlan:
    """The plan with the room it needs, and what it is short of at the worst moment."""
    volume = plan.volume
    free = volume.free_bytes + sum(_taken_at(Path(path), volume) for path in plan.unwanted)
    needed = _folder_growth(plan) + sum(
        volume.bytes_taken(sum(len(os.fsencode(path.name)) + _LIST_LINE_BYTES for path in planned.tracks))
        for planned in plan.lists if not planned.kept
    )  # fmt: skip
    short = 0
    for step in plan.steps:
        taken = plan.taken_by(step)
        if not taken:
            continue
        short = max(short, needed + taken - free)
        old = plan.retired.get(step.output, step.output if step.replaces else "")
        needed += taken - (_taken_at(Path(old), volume) if old else 0)
    return replace(plan, needed_bytes=max(0, needed), short_bytes=max(short, needed - free))


def _taken_at(path: Path, volume: Volume) -> int:
    try:
        return volume.bytes_taken(path.stat().st_size)
    except OSError:
        return 0


def _folder_growth(plan: DeliveryPlan) -> int:
    """What folders take that are new, or grow by the names that come into them."""
    volume, coming = plan.volume, dict[Path, set[str]]()
    outputs = [Path(step.output) for step in plan.steps if step.writes] + [planned.path for planned in plan.lists]
    for output in outputs:
        while output != volume.root and output.is_relative_to(volume.root):
            coming.setdefault(output.parent, set()).add(output.name)
            output = output.parent
    grown = 0
    for folder, names in coming.items():
        there = set(os.listdir(folder)) if folder.is_dir() else None
        before = 0 if there is None else volume.folder_bytes(there)
        grown += volume.folder_bytes(names | (there or set())) - before
    return grown


@dataclass(frozen=True, slots=True, kw_only=True)
class LeaveOut:
    """Tracks to leave out so that the rest fits, by their sources' ids: kind is "fewest" or "least", saved_bytes what
    they take. proved says that no fewer tracks, or no fewer bytes, would do."""

    kind: str
    source_ids: tuple[int, ...]
    saved_bytes: int
    proved: bool


_MOST_SUMS = 200_000_000
"""So many sums are weighed exactly; beyond it the clusters are counted by so many together."""


def leave_outs(plan: DeliveryPlan) -> tuple[LeaveOut, ...]:
    """What to leave out of a delivery that does not fit: the fewest tracks, and as little as possible. None where it
    fits, or where leaving out all of it would not help."""
    steps = [step for step in plan.steps if plan.taken_by(step)]
    sizes = [plan.taken_by(step) for step in steps]
    if plan.fits or sum(sizes) < plan.short_bytes:
        return ()
    unit = plan.volume.bytes_taken(1)
    exact = True
    while plan.short_bytes // unit * len(sizes) > _MOST_SUMS:
        unit, exact = unit * 2, False
    counted = [size // unit for size in sizes]
    least = -(-plan.short_bytes // unit)
    if sum(counted) < least:
        return ()
    few, _ = smallest_cover_of(counted, least)
    offers = [("fewest", few, exact), ("least", smallest_cover(counted, least), exact)]
    return tuple(
        LeaveOut(
            kind=kind, source_ids=tuple(steps[n].source_id for n in sorted(positions)),
            saved_bytes=sum(sizes[n] for n in positions), proved=sure,
        )
        for kind, positions, sure in offers
    )  # fmt: skip


def deliver(
    plan: DeliveryPlan, work: Path, *, jobs: int, report: Report = no_report
) -> Iterator[Delivered | WrittenList | Ordered]:
    """Make into a work folder what must be made, while the others are copied one by one in playing order and compared
    there; then their order, where it is not as asked, and the lists. Everything is on the medium when it ends.

    What is on the volume already stays. Raises OutputError when there is no room; a volume that
    vanishes fails the tracks left, and the next call continues.
    """
    if not plan.fits:
        raise OutputError(
            f"Not delivered: {plan.short_bytes:,} bytes too little are free, counted in whole clusters. Free some "
            "space or leave tracks out."
        )
    volume = plan.volume
    remove_leftovers(volume.root)
    _remove(plan.unwanted, volume)
    whole = Progress(done=0, total=max(1, len(plan.steps)), unit=Unit.TRACKS)
    steps = _levelled(plan, jobs, within(report, whole, 0.0, 0.1))
    made = _Making([step for step in steps if step.output not in plan.renamed], volume, work, jobs)
    finished: list[Delivered] = []
    try:
        for number, step in enumerate(steps, 1):
            for event in made.until(step):
                report(made.progress(whole, event, number, len(steps)))
            in_place = step.output in plan.retired or step.output == step.source.path
            note = partial(_note, plan, step)
            if step.writes and not _kept_aside(plan, step.source.path):
                error = f"{Path(step.source.path).name} could not be set aside, so it stays as it is."
                finished.append(Delivered(step=step, ok=False, output="", error=error, gone=not volume.is_there))
                made.drop(step)
                yield finished[-1]
                continue
            if step.output in plan.renamed:
                old = Path(plan.renamed[step.output])
                result = rename_there(step, old, volume, note=note)
                if result.ok:
                    _remove((str(old),), volume)
            else:
                made_of = made.outcomes.pop(step.output, None)
                result = put_on_volume(step, made_of, volume, keeps_part=not in_place, note=note)
            finished.append(result)
            if result.ok and step.output in plan.retired:
                # While both are there, the lists are in no doubt which one they name.
                old = Path(plan.retired[step.output])
                yield from relist(volume, {old: Path(result.output)})
                _remove((str(old),), volume)
            yield result
            report(made.progress(whole, None, number, len(steps)))
    finally:
        made.close()
    there = {Path(result.output): result.step.source for result in finished if result.output}
    if volume.is_there:
        ordered = put_in_order(volume, plan.asked, tell=partial(_tell_of_order, report, whole))
        if ordered.moved or not ordered.ok:
            yield ordered
        for planned in plan.lists:
            yield write_planned(planned, there)
        _flush({volume.root, *(path.parent for path in there)})


def _kept_aside(plan: DeliveryPlan, path: str) -> bool:
    """Copy a file of the volume to where it is to be kept, compared there, unless it lies there; whether it does."""
    if path not in plan.set_aside:
        return True
    kept = Path(plan.set_aside[path])
    try:
        if kept.exists():
            return file_digest(kept) == file_digest(Path(path))
        with output_errors(kept.parent):
            kept.parent.mkdir(parents=True, exist_ok=True)
        with working_file(kept) as working:
            copy_compared(Path(path), working)
            move_into_place(working, kept, replaces=False)
    except RumbrelError:
        logger.warning("%s could not be copied to %s", path, kept, exc_info=True)
        return False
    return True


def _tell_of_order(report: Report, whole: Progress, moved: int) -> None:
    report(replace(whole, done=whole.total, step="putting in order", finished=moved))


class _Making:
    """Results that are made while others are copied, in playing order. Outcomes are by their destinations on the
    volume, their files in the work folder under the same relative names."""

    def __init__(self, steps: Sequence[Step], volume: Volume, work: Path, jobs: int) -> None:
        with output_errors(work.parent):
            work.mkdir(parents=True, exist_ok=True)
        self.outcomes: dict[str, Outcome] = {}
        self._by_local: dict[str, str] = {}
        self._volume = volume
        self._share = 0.0
        local_steps = []
        for step in steps:
            if _is_made(step):
                local = work / Path(step.output).relative_to(volume.root)
                local_steps.append(replace(step, output=str(local), replaces=True))
                self._by_local[str(local)] = step.output
        self._weight = 0.6 if local_steps else 0.0
        self._waited = set(self._by_local.values())
        self._events = run_steps(local_steps, jobs=jobs, in_order=True)

    def until(self, step: Step) -> Iterator[Progress]:
        """Go on making until a step's result is there; not for a volume that is gone."""
        while step.output in self._waited and step.output not in self.outcomes:
            if not self._volume.is_there:
                self.outcomes[step.output] = Outcome(step=step, ok=False, error=taken_out(self._volume))
                return
            event = next(self._events)
            if isinstance(event, Outcome):
                self.outcomes[self._by_local[event.step.output]] = event
            else:
                self._share = event.done / event.total if event.total else 1.0
                yield event

    def progress(self, whole: Progress, event: Progress | None, number: int, count: int) -> Progress:
        """event is that of making, None where a track is on the volume."""
        copied = number if event is None else number - 1
        share = self._weight * self._share + (1 - self._weight) * copied / count
        step = "making and copying" if self._weight else "copying"
        parts = event.parts if event else ()
        done = (0.1 + 0.9 * share) * whole.total
        return replace(whole, done=done, step=step, finished=copied, items=count, parts=parts)

    def drop(self, step: Step) -> None:
        """A result that is no longer wanted."""
        if (outcome := self.outcomes.pop(step.output, None)) is not None:
            remove_working(Path(outcome.step.output))

    def close(self) -> None:
        close = getattr(self._events, "close", None)
        if close is not None:
            close()
        for local in self._by_local:
            remove_working(Path(local))


def _remove(paths: Sequence[str], volume: Volume) -> None:
    """Remove files of the volume, and the folders that are empty then."""
    for path in map(Path, paths):
        with output_errors(path.parent):
            path.unlink(missing_ok=True)
            folder = path.parent
            while folder != volume.root and folder.is_relative_to(volume.root) and not any(folder.iterdir()):
                folder.rmdir()
                folder = folder.parent


def _flush(folders: set[Path]) -> None:
    """The names of files too are on the medium then: their content is since it was compared."""
    for folder in folders:
        with output_errors(folder):
            handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)


def _note(plan: DeliveryPlan, step: Step, working: Path, is_part: bool) -> None:
    """Note in the ledger what is about to get its name."""
    if plan.ledger is None or not step.work:
        return
    status = working.stat()
    with output_errors(Path(step.source.path).parent):
        state = source_state(Path(step.source.path))
    plan.ledger.add(
        Entry(
            source=str(Path(step.source.path).absolute()), part=step.source.part, source_bytes=step.source.size_bytes,
            source_ns=step.source.modified_ns, work=step.work, output=step.output, output_bytes=status.st_size,
            output_ns=status.st_mtime_ns, partial=is_part, **state,
        )
    )  # fmt: skip


def _levelled(plan: DeliveryPlan, jobs: int, report: Report) -> tuple[Step, ...]:
    """The level that the target asks for."""
    forecast = Forecast(steps=plan.steps, free_bytes=plan.volume.free_bytes)
    part = TargetPlan(
        target=plan.target, destination=plan.volume.root, rule=plan.target.level, trims=False, forecast=forecast
    )
    return measure_plan(ConvertPlan(parts=(part,)), jobs=jobs, report=report).steps
