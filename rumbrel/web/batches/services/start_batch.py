"""Start a batch, and try its failed items again."""

from collections.abc import Sequence

from django.db import transaction

from rumbrel.core.errors import PlaylistError
from rumbrel.core.records import as_record
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import start_job

from ..models import Batch, Item, KeptInStep
from ..wishes import BatchWish
from .forecast_tracks import see_that_it_may_hold

__all__ = ["begin_batch", "start_batch", "try_again"]


def start_batch(
    *, track_ids: Sequence[int], wish: BatchWish, in_step: KeptInStep | None = None, held: bool = False
) -> Batch:
    """Keep what was asked and queue the work; planning is its first step, and its last where it is held. Raises
    PlaylistError for no tracks, OutputError for a destination that may not be.

    The very same work that is under way already is that batch: a second press makes no second one.
    """
    if not track_ids:
        raise PlaylistError("The pull list is empty. Pull tracks in the collection first.")
    see_that_it_may_hold(wish.destination)
    asked = {
        "targets": as_record(wish.targets),
        "destination": wish.shown_destination,
        "options": wish.as_record(),
        "track_ids": list(track_ids),
        "held": held,
    }
    with transaction.atomic():
        under_way = Batch.objects.filter(target_name=wish.name, job__state__in=Job.ACTIVE)
        for other in under_way.select_related("job"):
            if all(getattr(other, name) == value for name, value in asked.items()):
                return other
        batch = Batch.objects.create(target_name=wish.name, in_step=in_step, **asked)
        _queue(batch)
    return batch


def begin_batch(*, batch: Batch) -> Batch:
    """Start what was held as a forecast, as its page shows it."""
    with transaction.atomic():
        if Batch.objects.filter(pk=batch.pk, held=True, planned=True).update(held=False):
            batch.held = False
            _queue(batch)
    return batch


def try_again(*, batch: Batch) -> Batch:
    """Go on where the batch was; what failed is tried once more."""
    with transaction.atomic():
        batch.items.filter(state__in=(Item.State.FAILED, Item.State.RUNNING)).update(
            state=Item.State.WAITING, share=0, error=""
        )
        _queue(batch)
    return batch


def _queue(batch: Batch) -> None:
    batch.job = start_job(kind="batch", subject=batch.pk, title=f"Batch {batch.pk}: {batch.target_name}")
    batch.save(update_fields=["job"])
