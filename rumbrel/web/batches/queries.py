"""Batches as pages need them."""

from django.db.models import QuerySet

from .models import Batch, Item

__all__ = ["batches", "changed_items", "items_of", "reasons_of", "result_items"]

_PAGE_ITEMS = 100


def batches() -> QuerySet[Batch]:
    """Newest first, each with its work; tracks and target stay where they are."""
    return Batch.objects.select_related("job").defer("track_ids", "target", "options")


def items_of(batch: Batch, *, state: str = "") -> QuerySet[Item]:
    """The lines of a batch without their steps, in the order of the forecast."""
    items = batch.items.defer("step").order_by("number")
    return items.filter(state=state) if state in set(Item.State) else items


def result_items(batch: Batch) -> QuerySet[Item]:
    """Lines whose results are there, whole or in part."""
    return batch.items.filter(state__in=(Item.State.DONE, Item.State.PART)).exclude(output="").defer("step")


def changed_items(batch: Batch, since: int, *, first: int, last: int) -> QuerySet[Item]:
    """Of the lines from a number to another, those that changed since a cursor."""
    return batch.items.filter(changed__gt=since, number__gte=first, number__lte=last).defer("step").order_by("number")


def reasons_of(batch: Batch, *, first: int, last: int) -> list[str]:
    """Why work is done on the lines from a number to another, on a page's worth of them."""
    lines = batch.items.filter(number__gte=first, number__lte=last, works=True)
    return list(lines.order_by("number").values_list("reason", flat=True)[:_PAGE_ITEMS])
