"""Take up work whose worker is gone."""

import logging
from datetime import timedelta

from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from rumbrel.web.ui.words import counted

from ..models import Job
from ..registry import Ending, kind_for
from .control_job import queue_job
from .run_job import settle

__all__ = ["HEART_STOPPED_SECONDS", "recover_jobs"]

logger = logging.getLogger(__name__)
HEART_STOPPED_SECONDS = 30
"""Six beats of a heart: one that is only late is not taken for dead."""
_MOST_TRIES = 5
"""Work that ends its process time and again is not tried for ever."""
_INTERRUPTED = Ending(state=Job.State.FAILED, reason="It was interrupted. Start it again.")


def recover_jobs(*, at_start: bool = False, nothing_queued: bool = True) -> int:
    """Queue again what was running when its heart stopped; at_start says that nobody can be at work yet.

    Returns how many were taken up. What waits is queued as well where nothing is queued, since an order
    can be lost with the process that took it; a second order finds the job claimed.
    """
    orphaned = Q(state=Job.State.RUNNING)
    if not at_start:
        # One that lies ahead is from before the clock was set back.
        now, stopped = timezone.now(), timedelta(seconds=HEART_STOPPED_SECONDS)
        orphaned &= Q(heartbeat__lt=now - stopped) | Q(heartbeat__gt=now + stopped)
    taken_up = sum(_take_up(pk, orphaned) for pk in Job.objects.filter(orphaned).values_list("pk", flat=True))
    if taken_up:
        logger.warning("taken up again: %s", counted(taken_up, "interrupted job"))
    if at_start or nothing_queued:
        for pk in Job.objects.filter(state=Job.State.WAITING).order_by("pk").values_list("pk", flat=True):
            queue_job(pk)
    return taken_up


def _take_up(pk: int, orphaned: Q) -> bool:
    """Let an orphaned job wait again, or end it where it cannot go on or was to stop."""
    with transaction.atomic():
        job = Job.objects.filter(orphaned, pk=pk).first()
        if job is None:
            return False
        ending = _ending(job)
        if ending is not None:
            settle(job, ending)
            return False
        job.state, job.worker, job.tries = Job.State.WAITING, "", job.tries + 1
        job.save()
        queue_job(pk)
    return True


def _ending(job: Job) -> Ending | None:
    kind = kind_for(job.kind)
    if job.stop_asked:
        return Ending(state=Job.State.STOPPED)
    if kind is not None and not kind.continues:
        return _INTERRUPTED
    if job.tries >= _MOST_TRIES:
        text = f"The work ended its process {job.tries} times. Continue to try again."
        return Ending(state=Job.State.FAILED, reason=text)
    return None
