"""Batches as pages need them."""

from django.db.models import Case, Q, QuerySet, Value, When
from django.urls import reverse

from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.queries import active_jobs
from rumbrel.web.ui.traces import Trace, TraceRow

from .models import Batch, Item

__all__ = ["batches", "changed_items", "items_of", "reasons_of", "result_items", "results_of_track", "verifying"]

_PAGE_ITEMS = 100
_MOST_TRACES = 8


def batches() -> QuerySet[Batch]:
    """Newest first, each with its work; tracks and target stay where they are."""
    return Batch.objects.select_related("job").defer("track_ids", "targets", "options")


_RANKS = (Item.State.FAILED, Item.State.PART, Item.State.CANNOT, Item.State.DONE, Item.State.SKIPPED)


def items_of(batch: Batch, *, state: str = "", worst_first: bool = False) -> QuerySet[Item]:
    """The lines of a batch without their steps, in the order of the forecast, or with what needs a look first."""
    items = batch.items.defer("step").select_related("track").order_by("number")
    if state in set(Item.State):
        return items.filter(state=state)
    if worst_first:
        ranks = [When(~Q(verify_error=""), then=Value(-1))]
        ranks += [When(state=rank, then=Value(number)) for number, rank in enumerate(_RANKS)]
        return items.alias(rank=Case(*ranks, default=Value(len(_RANKS)))).order_by("rank", "number")
    return items


def result_items(batch: Batch) -> QuerySet[Item]:
    """Lines whose results are there, whole or in part."""
    return batch.items.filter(state__in=(Item.State.DONE, Item.State.PART)).exclude(output="").defer("step")


def verifying(batch: Batch) -> Job | None:
    """The work that compares its results once more, while it goes on."""
    return active_jobs().filter(kind="verify", subject=batch.pk).first()


def changed_items(batch: Batch, since: int, *, first: int, last: int) -> QuerySet[Item]:
    """Of the lines from a number to another, those that changed since a cursor."""
    return (
        batch.items.filter(changed__gt=since, number__gte=first, number__lte=last)
        .defer("step")
        .select_related("track")
        .order_by("number")
    )


def reasons_of(batch: Batch, *, first: int, last: int) -> list[str]:
    """Why work is done on the lines from a number to another, on a page's worth of them."""
    lines = batch.items.filter(number__gte=first, number__lte=last, works=True)
    return list(lines.order_by("number").values_list("reason", flat=True)[:_PAGE_ITEMS])


def results_of_track(track_id: int) -> Trace:
    """What was made of a track and where that is, newest first."""
    made = Item.objects.filter(track_id=track_id, state__in=(Item.State.DONE, Item.State.PART)).exclude(output="")
    rows = [
        TraceRow(
            name=f"{item.after} kbit/s",
            detail=f"{item.batch.target_name}, batch {item.batch_id}: {item.output}",
            address=reverse("batches:batch", args=[item.batch_id]),
        )
        for item in made.select_related("batch").defer("step").order_by("-pk")[:_MOST_TRACES]
    ]
    return Trace(heading="Made from it", rows=tuple(rows), total=made.count() if rows else 0)
