"""Deliver: forecast, convert where needed, copy in playing order, compare, and write the lists."""

import hashlib
import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rumbrel.core.conversion import Outcome, levelled, measure_all, run_steps
from rumbrel.core.conversion.levelling import result_channels
from rumbrel.core.conversion.placing import move_into_place, output_errors, remove_leftovers, working_file
from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.forecast import Action, ForecastOptions, Source, Step, WhenPresent, forecast_batch
from rumbrel.core.inspection import Facts
from rumbrel.core.places import Volume
from rumbrel.core.targets import Target

from .lists import FoundList, PlannedList, WrittenList, in_folders, plan_lists, write_planned

__all__ = ["Delivered", "DeliveryPlan", "deliver", "plan_delivery"]

_COPY_BYTES = 1 << 20


@dataclass(frozen=True, slots=True, kw_only=True)
class DeliveryPlan:
    """Steps in playing order with their places on the volume, and the lists that go beside them."""

    volume: Volume
    steps: tuple[Step, ...]
    lists: tuple[PlannedList, ...]
    needed_bytes: int

    @property
    def fits(self) -> bool:
        return self.needed_bytes <= self.volume.free_bytes


@dataclass(frozen=True, slots=True, kw_only=True)
class Delivered:
    """What became of one track: action is copy, convert, rewrap, skip or refuse."""

    step: Step
    ok: bool
    place: str
    bytes_out: int = 0
    digest: str = ""
    error: str = ""

    def as_record(self) -> dict[str, Any]:
        return {
            "source": self.step.source.path,
            "output": self.place or None,
            "action": str(self.step.action),
            "ok": self.ok,
            "bytes_in": self.step.source.size_bytes,
            "bytes_out": self.bytes_out,
            "checked": self.ok and bool(self.digest),
            "digest": self.digest or None,
            "error": self.error or None,
            "warnings": [{"code": str(w.code), "text": w.text} for w in self.step.warnings],
        }


def plan_delivery(
    sources: Sequence[Source],
    target: Target,
    volume: Volume,
    *,
    lists: Sequence[FoundList] = (),
    inspect: Callable[[Path], Facts] | None = None,
) -> DeliveryPlan:
    """Plan every source onto a volume, in the order given.

    Where the target knows no lists but folders, each list becomes a folder of numbered tracks.
    """
    folders = target.playlists.folder_each
    options = ForecastOptions(
        when_present=WhenPresent.SKIP,
        file_system=volume.kind.file_system,
        pattern="{number:03} {title}" if folders and not any(found.named for found in lists) else "",
    )
    placed = in_folders(sources, lists) if folders else list(sources)
    forecast = forecast_batch(placed, target, volume.root, options=options, inspect=inspect)
    working = [step for step in forecast.steps if step.writes and step.after]
    needed = volume.room_needed([step.after.most_bytes if step.after else 0 for step in working])
    outputs = [step.output for step in forecast.steps]
    planned = plan_lists(lists, target, volume.root, volume.system, outputs)
    return DeliveryPlan(volume=volume, steps=forecast.steps, lists=planned, needed_bytes=needed)


def deliver(
    plan: DeliveryPlan, work: Path, *, jobs: int, progress: Callable[[float], None] = lambda share: None
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
    steps = _levelled(plan.steps, jobs)
    made = _converted(steps, plan.volume, work, jobs)
    total = max(1, len(steps))
    finished: list[Delivered] = []
    for number, step in enumerate(steps, 1):
        result = _placed(step, made.get(step.output), plan.volume)
        finished.append(result)
        yield result
        progress(number / total)
    there = {Path(result.place): result.step.source for result in finished if result.ok and result.place}
    for planned in plan.lists:
        yield write_planned(planned, there)


def _levelled(steps: Sequence[Step], jobs: int) -> tuple[Step, ...]:
    """The level that the target asks for. Albums are measured whole, also where some of it is there already."""
    target = steps[0].target if steps else None
    if target is None or target.level.mode == "none" or not any(step.writes for step in steps):
        return tuple(steps)
    members = [step.source for step in steps if step.source.usable]
    requests = [(facts, result_channels(facts, target)) for facts in members]
    return levelled(steps, measure_all(requests, jobs=jobs), rule=target.level, members=members)


def _converted(steps: Sequence[Step], volume: Volume, work: Path, jobs: int) -> dict[str, Outcome]:
    """Outcomes by place on the volume, their files in the work folder under the same relative names."""
    work.mkdir(parents=True, exist_ok=True)
    local_steps, by_output = [], {}
    for step in steps:
        # A copy that gets tags of its own is not the source any more.
        if step.action in (Action.CONVERT, Action.REWRAP) or (step.action is Action.COPY and step.extra_fields):
            local = work / Path(step.output).relative_to(volume.root)
            local_steps.append(replace(step, output=str(local), replaces=True))
            by_output[str(local)] = step.output
    outcomes = (event for event in run_steps(local_steps, jobs=jobs) if isinstance(event, Outcome))
    return {by_output[outcome.step.output]: outcome for outcome in outcomes}


def _placed(step: Step, made: Outcome | None, volume: Volume) -> Delivered:
    if step.action is Action.SKIP:
        return Delivered(step=step, ok=True, place=step.output)
    if step.action is Action.REFUSE:
        return Delivered(step=step, ok=False, place="", error=step.reason)
    source = Path(step.source.path)
    if made is not None:
        if not made.ok:
            return Delivered(step=step, ok=False, place="", error=made.error)
        source = Path(made.step.output)
    try:
        if not volume.root.is_dir():
            raise OutputError(f"The volume {volume.root} is not there any more. Connect it again, then continue.")
        digest, size = _copied(source, Path(step.output))
    except RumbrelError as error:
        return Delivered(step=step, ok=False, place="", error=str(error))
    finally:
        if made is not None:
            source.unlink(missing_ok=True)
    return Delivered(step=step, ok=True, place=step.output, bytes_out=size, digest=digest)


def _copied(source: Path, place: Path) -> tuple[str, int]:
    """Copy, read back from the volume, compare, and only then give the file its name."""
    digest, size = hashlib.blake2b(digest_size=32), 0
    with working_file(place) as working:
        with output_errors(place.parent), source.open("rb") as reading, working.open("wb") as writing:
            while chunk := reading.read(_COPY_BYTES):
                digest.update(chunk)
                writing.write(chunk)
                size += len(chunk)
            writing.flush()
            os.fsync(writing.fileno())
            # Out of memory's copy, so that the comparison reads the volume itself.
            os.posix_fadvise(writing.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        with output_errors(place.parent), working.open("rb") as file:
            there = hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=32)).hexdigest()
        if there != digest.hexdigest():
            raise OutputError(f"{place.name} does not read back from the volume as it was written. Check the volume.")
        move_into_place(working, place, replaces=False)
    return digest.hexdigest(), size
