"""Carry out a batch: plan, measure, convert. Every step outlives a kill, and the next run goes on from there."""

import time
from collections.abc import Collection, Iterable, Sequence
from dataclasses import replace
from itertools import groupby
from pathlib import Path

from django.db import transaction
from django.db.models import Count, Max, Sum

from rumbrel.core.conversion import Outcome
from rumbrel.core.crew import default_jobs
from rumbrel.core.forecast import Action, Forecast, Step, warning_records
from rumbrel.core.forecast.steps import Warning
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.workflows.convert import ConvertPlan, TargetPlan, measure_plan, run_plan
from rumbrel.web.collection.queries import known_tracks
from rumbrel.web.jobs.machines import carrier
from rumbrel.web.jobs.services import Desk
from rumbrel.web.ui.words import counted

from ..models import Batch, Item
from ..rows import after_text, now_text
from ..steps import kept_step, restored_step
from ..wishes import BatchWish, DestinationKind
from .forecast_tracks import ledger_for, plan_for
from .measure_speed import SpeedNotes

__all__ = ["recount_batch", "release_items", "run_batch", "steps_of"]

_ROWS_A_TURN = 300
_SECONDS_BETWEEN_NOTES = 0.5
_FIRST_STATES = {Action.SKIP: Item.State.SKIPPED, Action.REFUSE: Item.State.CANNOT}


def run_batch(desk: Desk, batch_id: int) -> str:
    """The work of a batch; returns what came of it and where that is."""
    batch = Batch.objects.get(pk=batch_id)
    wish = BatchWish.restored(batch.targets, batch.options)
    if not batch.planned:
        desk.report(Progress(done=0, total=0, unit=Unit.TRACKS, step="planning"))
        _plan(batch, wish, desk)
    release_items(batch_id)
    if batch.held:
        return f"The forecast has {counted(batch.items.count(), 'line')}. Start it from its page."
    steps = steps_of(batch)
    if not batch.measured:
        steps = _measured(batch, wish, steps, desk)
    waiting = set(batch.items.filter(state=Item.State.WAITING).values_list("number", flat=True))
    numbers = {step.output: number for number, step in steps.items() if step.output}
    _run(batch, wish, [step for number, step in steps.items() if number in waiting], numbers, desk)
    recount_batch(batch_id)
    batch = Batch.objects.get(pk=batch_id)
    desk.failures = sum(batch.counts.get(state, 0) for state in (Item.State.FAILED, Item.State.PART))
    return _summary(batch)


def release_items(batch_id: int) -> None:
    """Items that nobody works on any more wait again."""
    Item.objects.filter(batch_id=batch_id, state=Item.State.RUNNING).update(
        state=Item.State.WAITING, share=0, changed=cursor_now()
    )
    recount_batch(batch_id)


def cursor_now() -> int:
    """A cursor that grows: microseconds, which no two transactions share."""
    return time.time_ns() // 1_000


def _plan(batch: Batch, wish: BatchWish, desk: Desk) -> None:
    """In pieces, so that nobody waits for the database meanwhile; what an earlier run left half planned goes first."""
    tracks = known_tracks(batch.track_ids)
    titles = {track.pk: track.title for track in tracks}
    steps = plan_for(tracks, wish).steps
    while some := list(batch.items.values_list("pk", flat=True)[:_ROWS_A_TURN]):
        Item.objects.filter(pk__in=some).delete()
    seconds = 0.0
    for start in range(0, len(steps), _ROWS_A_TURN):
        desk.report(Progress(done=start, total=len(steps), unit=Unit.TRACKS, step="planning"))
        some_steps = enumerate(steps[start : start + _ROWS_A_TURN], start + 1)
        items = [_item(batch, number, step, titles.get(step.source_id, "")) for number, step in some_steps]
        Item.objects.bulk_create(items)
        seconds += sum(item.seconds for item in items if item.works)
    batch.planned, batch.measured, batch.seconds = True, False, seconds
    batch.save(update_fields=["planned", "measured", "seconds"])


def _item(batch: Batch, number: int, step: Step, title: str) -> Item:
    return Item(
        batch=batch,
        number=number,
        track_id=step.source_id,
        target_slug=step.target.slug,
        source=step.source.path.encode("utf-8", "replace").decode(),
        title=title or Path(step.source.path).stem.encode("utf-8", "replace").decode(),
        action=step.action,
        reason=step.reason,
        output=step.output.encode("utf-8", "backslashreplace").decode(),
        step=kept_step(step),
        works=step.writes,
        state=_FIRST_STATES.get(step.action, Item.State.WAITING),
        share=0 if step.writes else 1,
        seconds=step.source.duration_seconds,
        bytes_in=step.source.sound_bytes,
        bytes_after=step.after.size_bytes if step.after else 0,
        kbps_in=round(step.source.bitrate_bps / 1000),
        now=now_text(step),
        after=after_text(step),
        warnings=warning_records(step.warnings),
        error=step.reason if step.action is Action.REFUSE else "",
        changed=cursor_now(),
    )


def steps_of(batch: Batch, *, numbers: Collection[int] | None = None) -> dict[int, Step]:
    """Steps as they were planned, by their items' numbers: every one, or those of some numbers."""
    wish = BatchWish.restored(batch.targets, batch.options)
    targets = {target.slug: target for target in wish.all_targets}
    rows = batch.items.order_by("number").values_list("number", "target_slug", "step")
    return {
        number: restored_step(data, targets[slug])
        for number, slug, data in rows
        if numbers is None or number in numbers
    }


def _plan_of(wish: BatchWish, steps: Iterable[Step]) -> ConvertPlan:
    """Steps as a plan again: those of one target stand together, in the order in which they were planned."""
    parts = []
    for target, some in groupby(steps, key=lambda step: step.target):
        parts.append(
            TargetPlan(
                target=target,
                destination=wish.folder_of(target),
                rule=wish.level.rule_for(target),
                trims=wish.trims,
                forecast=Forecast(steps=tuple(some), free_bytes=None),
                beside=wish.destination.kind is DestinationKind.BESIDE,
            )
        )
    return ConvertPlan(parts=tuple(parts))


def _measured(batch: Batch, wish: BatchWish, steps: dict[int, Step], desk: Desk) -> dict[int, Step]:
    """The steps with the levels that the target asks for, kept so that nothing is measured twice."""
    plan = _plan_of(wish, steps.values())
    if any(part.needs_measuring for part in plan.parts):
        settled = measure_plan(plan, jobs=default_jobs(), report=desk.report, holds=desk.holding).steps
        changed = {
            number: after for (number, before), after in zip(steps.items(), settled, strict=True) if after != before
        }
        with transaction.atomic():
            for number, step in changed.items():
                batch.items.filter(number=number).update(
                    step=kept_step(step), after=after_text(step), warnings=warning_records(step.warnings),
                    bytes_after=step.after.size_bytes if step.after else 0, changed=cursor_now(),
                )  # fmt: skip
        steps = steps | changed
    Batch.objects.filter(pk=batch.pk).update(measured=True)
    return steps


def _run(batch: Batch, wish: BatchWish, steps: Sequence[Step], numbers: dict[str, int], desk: Desk) -> None:
    """Convert what waits. Outcomes are kept as they come; shares of what is under way now and then."""
    plan, speeds = _plan_of(wish, steps), SpeedNotes()
    before = batch.items.filter(works=True).exclude(state=Item.State.WAITING).aggregate(n=Count("pk"), s=Sum("seconds"))
    noted = 0.0
    for event in run_plan(plan, jobs=default_jobs(), ledger=ledger_for, holds=desk.holding, carrier=carrier()):
        if isinstance(event, Outcome):
            _keep(batch.pk, numbers, event)
            speeds.take(event)
        elif isinstance(event, Progress):
            if time.monotonic() - noted > _SECONDS_BETWEEN_NOTES:
                noted = time.monotonic()
                _note_shares(batch.pk, event)
                recount_batch(batch.pk)
            desk.report(
                replace(
                    event,
                    done=event.done + (before["s"] or 0.0),
                    total=event.total + (before["s"] or 0.0),
                    finished=event.finished + before["n"],
                    items=event.items + before["n"],
                )
            )
    speeds.keep()


def _note_shares(batch_id: int, progress: Progress) -> None:
    for track_id, share in progress.parts:
        Item.objects.filter(
            batch_id=batch_id, track_id=track_id, state__in=(Item.State.WAITING, Item.State.RUNNING)
        ).update(state=Item.State.RUNNING, share=share, changed=cursor_now())


def _keep(batch_id: int, numbers: dict[str, int], outcome: Outcome) -> None:
    """What became of an item; its forecast's warnings stay, the work's come on top."""
    step = outcome.step
    found = Item.objects.filter(batch_id=batch_id, number=numbers[step.output]) if step.output in numbers else None
    if found is None:
        return
    item = found.defer("step").get()
    state = Item.State.PART if outcome.partial else Item.State.DONE if outcome.ok else Item.State.FAILED
    found.update(
        state=state,
        share=1.0,
        bytes_out=outcome.bytes_out,
        checked=outcome.checked,
        bit_exact=bool(outcome.digest) or (outcome.ok and step.action is Action.COPY),
        sha256=outcome.sha256,
        identical_file=outcome.identical_file,
        digest=outcome.digest,
        samples_in=outcome.samples_in,
        samples_out=outcome.samples_out,
        difference_db=outcome.difference_db,
        compared_samples=outcome.compared_samples,
        worst_seconds=outcome.worst_seconds,
        read_by=outcome.read_by,
        kbps_out=round(outcome.bitrate_bps / 1000),
        error=outcome.error,
        may_pass=outcome.may_pass,
        warnings=_joined(item.warnings, outcome.warnings),
        changed=cursor_now(),
    )


def _joined(foreseen: list[dict[str, str]], found: Sequence[Warning]) -> list[dict[str, str]]:
    return foreseen + [warning for warning in warning_records(found) if warning not in foreseen]


def recount_batch(batch_id: int) -> None:
    """Bring the kept counts and sums of a batch into line with its items."""
    items = Item.objects.filter(batch_id=batch_id)
    counts = dict(items.order_by().values_list("state").annotate(n=Count("pk")))
    done = items.filter(state__in=(Item.State.DONE, Item.State.PART))
    # Each source once, for however many targets, and a part of a file by its share.
    sources = done.order_by().values("track_id", "source").annotate(own=Max("bytes_in"))
    before = sum(sources.values_list("own", flat=True))
    after = done.aggregate(after=Sum("bytes_out"))["after"] or 0
    Batch.objects.filter(pk=batch_id).update(counts=counts, bytes_in=before, bytes_out=after)


def _summary(batch: Batch) -> str:
    made = batch.counts.get(Item.State.DONE, 0) + batch.counts.get(Item.State.PART, 0)
    text = f"{counted(made, 'result')} {f'in {batch.destination}' if batch.destination else 'beside the originals'}"
    for state in (Item.State.PART, Item.State.FAILED, Item.State.CANNOT):
        if batch.counts.get(state):
            text += f"; {batch.counts[state]:,} {state}"
    return f"{text}."
