"""Forecast, start, run, cancel and continue batches."""

import os
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from rumbrel.core.conversion import carry_out
from rumbrel.core.conversion.carry_out import Watch
from rumbrel.core.conversion.levelling import levelled, measure, result_channels
from rumbrel.core.conversion.placing import working_path
from rumbrel.core.errors import Cancelled
from rumbrel.core.forecast import (
    Action,
    Forecast,
    ForecastOptions,
    Source,
    Step,
    WhenPresent,
    forecast_batch,
    plan_sound,
)
from rumbrel.core.formats.table import kind_label
from rumbrel.core.inspection import inspect_file
from rumbrel.core.targets import Target, find_target
from rumbrel.web.collection.models import Track

from .models import Batch, Item

SECONDS_BETWEEN_NOTES = 0.4


def place_for(target: Target) -> Path:
    """Where results for a target go: one folder each, so that a later batch finds what is there."""
    return Path(settings.RESULTS) / target.slug


def forecast(tracks: Sequence[Track], target: Target, when_present: WhenPresent) -> Forecast:
    sources = [Source(path=Path(t.path), relative=Path(t.folder.name) / t.relative) for t in tracks]
    return forecast_batch(sources, target, place_for(target), options=ForecastOptions(when_present=when_present))


def now_text(step: Step) -> str:
    facts = step.source
    if not facts.codec:
        return "–"
    return _sound_text(kind_label(facts.container, facts.codec), facts.sample_rate, facts.bit_depth, facts.bitrate_bps)


def after_text(step: Step) -> str:
    after = step.after
    if after is None or step.action is Action.REFUSE:
        return "–"
    return _sound_text(after.kind, after.sample_rate, after.bit_depth, after.bitrate_bps)


def _sound_text(kind: str, rate_hz: int, depth_bits: int | None, bitrate_bps: int) -> str:
    depth = f"/{depth_bits}" if depth_bits else ""
    return f"{kind} {rate_hz / 1000:g}{depth} {round(bitrate_bps / 1000):,}"


_FIRST_STATES = {Action.SKIP: Item.State.SKIPPED, Action.REFUSE: Item.State.REFUSED}


def start(tracks: Sequence[Track], target: Target, when_present: WhenPresent) -> Batch:
    """Store the forecast as a batch and queue its work."""
    plan = forecast(tracks, target, when_present)
    titles = {track.path: track.title for track in tracks}
    with transaction.atomic():
        batch = Batch.objects.create(
            target_slug=target.slug, place=str(place_for(target)), when_present=when_present, started_at=timezone.now()
        )
        Item.objects.bulk_create([_item(batch, step, titles) for step in plan.steps])
        transaction.on_commit(lambda: queue_waiting(batch))
    return batch


def _item(batch: Batch, step: Step, titles: dict[str, str]) -> Item:
    return Item(
        batch=batch,
        source=step.source.path,
        title=titles.get(step.source.path, Path(step.source.path).stem),
        action=step.action,
        reason=step.reason,
        output=step.output,
        replaces=step.replaces,
        works=step.writes,
        state=_FIRST_STATES.get(step.action, Item.State.WAITING),
        seconds=step.source.duration_seconds,
        bytes_in=step.source.size_bytes,
        bytes_after=step.after.size_bytes if step.after else 0,
        kbps_in=round(step.source.bitrate_bps / 1000),
        now=now_text(step),
        after=after_text(step),
        warnings=_warnings(step.warnings),
        error=step.reason if step.action is Action.REFUSE else "",
    )


def _warnings(warnings: Sequence[object]) -> list[dict[str, str]]:
    return [{"code": str(w.code), "text": w.text} for w in warnings]  # type: ignore[attr-defined]


def queue_waiting(batch: Batch) -> None:
    """Queue what waits, longest first, so that the cores end together."""
    from .tasks import convert_item

    waiting = batch.items.filter(state=Item.State.WAITING).order_by("-seconds")
    for pk in waiting.values_list("pk", flat=True):
        convert_item(pk)
    _finish_if_done(batch.pk)


def _me() -> str:
    """This process, told apart from an earlier one that had the same number."""
    pid = os.getpid()
    return f"{pid}:{_birth(pid)}"


def _birth(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[19]
    except (OSError, IndexError):
        return ""


def _alive(worker: str) -> bool:
    pid, _, birth = worker.partition(":")
    return pid.isdecimal() and bool(birth) and _birth(int(pid)) == birth


def run_item(item_id: int) -> None:
    """Claim one item and carry it out. Whoever comes second finds it claimed and leaves."""
    claimed = Item.objects.filter(pk=item_id, state=Item.State.WAITING, batch__state=Batch.State.RUNNING).update(
        state=Item.State.RUNNING, worker=_me(), share=0
    )
    if not claimed:
        return
    item = Item.objects.select_related("batch").get(pk=item_id)
    noted = time.monotonic()
    stopped = False

    def progress(share: float) -> None:
        nonlocal noted, stopped
        if time.monotonic() - noted > SECONDS_BETWEEN_NOTES:
            noted = time.monotonic()
            Item.objects.filter(pk=item_id).update(share=share)
            stopped = not Batch.objects.filter(pk=item.batch_id, state=Batch.State.RUNNING).exists()

    try:
        step = _step_for(item)
        outcome = carry_out(step, Watch(progress=progress, cancelled=lambda: stopped))
    except Cancelled:
        Item.objects.filter(pk=item_id).update(state=Item.State.WAITING, share=0, worker="")
        return
    item.state = Item.State.DONE if outcome.ok else Item.State.FAILED
    item.share = 1.0
    item.bytes_out, item.checked, item.bit_exact = outcome.bytes_out, outcome.checked, bool(outcome.digest)
    item.kbps_out = round(outcome.bitrate_bps / 1000)
    item.error, item.worker = outcome.error, ""
    item.warnings = _warnings(outcome.warnings)
    item.save()
    _finish_if_done(item.batch_id)


def _step_for(item: Item) -> Step:
    """Plan the item anew from the file as it is now, at the place that the forecast settled."""
    target = find_target(item.batch.target_slug)
    options = ForecastOptions()
    step = plan_sound(inspect_file(Path(item.source)), target, changes_sound=options.changes_sound(target))
    return _levelled(item, replace(step, output=item.output, replaces=item.replaces))


def _levelled(item: Item, step: Step) -> Step:
    """The level that the target asks for; an album is measured whole."""
    rule = step.target.level
    if rule.mode == "none" or not step.writes:
        return step
    members = [step.source]
    if rule.mode != "track":
        folder = str(Path(item.source).parent) + os.sep
        others = item.batch.items.filter(source__startswith=folder).exclude(pk=item.pk)
        members += [inspect_file(Path(path)) for path in others.values_list("source", flat=True)]
    measured = {}
    for facts in members:
        channels = step.shape.channels if step.shape and facts is step.source else result_channels(facts, step.target)
        found = measure(facts, channels) if facts.usable else None
        if found is not None:
            measured[facts.path] = found
    return levelled([step], measured, rule=rule, members=members)[0]


def _finish_if_done(batch_id: int) -> None:
    open_states = [Item.State.WAITING, Item.State.RUNNING]
    if not Item.objects.filter(batch_id=batch_id, state__in=open_states).exists():
        Batch.objects.filter(pk=batch_id, state=Batch.State.RUNNING).update(
            state=Batch.State.FINISHED, finished_at=timezone.now()
        )


def cancel(batch: Batch) -> None:
    """Stop: finished results stay, what is begun vanishes."""
    Batch.objects.filter(pk=batch.pk, state=Batch.State.RUNNING).update(state=Batch.State.CANCELLED)


def resume(batch: Batch) -> None:
    """Continue where it was; failed items are tried again."""
    with transaction.atomic():
        Batch.objects.filter(pk=batch.pk).update(state=Batch.State.RUNNING, started_at=timezone.now(), finished_at=None)
        batch.items.filter(state=Item.State.FAILED).update(state=Item.State.WAITING, share=0, error="")
        take_up_orphans()
        transaction.on_commit(lambda: queue_waiting(batch))


def take_up_orphans() -> int:
    """Give items back whose worker is gone; what it had half-written is removed."""
    orphans = [item for item in Item.objects.filter(state=Item.State.RUNNING) if not _alive(item.worker)]
    for item in orphans:
        working_path(Path(item.output)).unlink(missing_ok=True)
        Item.objects.filter(pk=item.pk, worker=item.worker).update(state=Item.State.WAITING, share=0, worker="")
    return len(orphans)


def take_up_all() -> None:
    """After a start or a crash: every running batch gets its waiting items queued again."""
    take_up_orphans()
    for batch in Batch.objects.filter(state=Batch.State.RUNNING):
        queue_waiting(batch)


@dataclass(frozen=True, slots=True, kw_only=True)
class Pace:
    """How a batch goes: sound seconds done a second, and the seconds left where they can be told."""

    speed: float
    left_seconds: float | None


def pace(batch: Batch) -> Pace:
    done, total = batch.done_seconds, batch.total_seconds
    elapsed = (timezone.now() - batch.started_at).total_seconds() if batch.started_at else 0.0
    if elapsed < 1 or done <= 0:
        return Pace(speed=0.0, left_seconds=None)
    speed = done / elapsed
    return Pace(speed=speed, left_seconds=(total - done) / speed)


def result_paths(batch: Batch) -> list[tuple[Path, str]]:
    """Finished results with their names below the batch's place."""
    place = Path(batch.place)
    done = batch.items.filter(state=Item.State.DONE).exclude(output="")
    return [(Path(i.output), str(Path(i.output).relative_to(place))) for i in done if Path(i.output).is_file()]
