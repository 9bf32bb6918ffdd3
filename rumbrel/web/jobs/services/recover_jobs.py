"""Take up work whose worker is gone."""

import logging
from datetime import timedelta

from django.db.models import F, Q
from django.utils import timezone

from ..models import Job
from ..registry import kind_for

__all__ = ["recover_jobs"]

logger = logging.getLogger(__name__)
HEART_STOPPED_SECONDS = 45
_MOST_TRIES = 5
"""Work that ends its process time and again is not tried for ever."""


def recover_jobs(*, at_start: bool = False) -> int:
    """Queue again what was running when its heart stopped; at_start says that nobody can be at work yet.

    Returns how many were taken up. What waits is queued again too: a second order finds the job claimed.
    """
    from ..tasks import run_job

    orphaned = Q(state=Job.State.RUNNING)
    if not at_start:
        orphaned &= Q(heartbeat__lt=timezone.now() - timedelta(seconds=HEART_STOPPED_SECONDS))
    for job in Job.objects.filter(orphaned, tries__gte=_MOST_TRIES):
        text = f"The work ended its process {job.tries} times. Continue to try again."
        Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(
            state=Job.State.FAILED, error=text, ended_at=timezone.now(), worker=""
        )
    interrupted = list(Job.objects.filter(orphaned))
    for job in interrupted:
        kind = kind_for(job.kind)
        if kind is not None and not kind.continues:
            kind.ended(job.subject)
            Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(
                state=Job.State.FAILED, error="It was interrupted. Start it again.", ended_at=timezone.now(), worker=""
            )
    taken_up = Job.objects.filter(orphaned).update(state=Job.State.WAITING, worker="", tries=F("tries") + 1)
    if taken_up:
        logger.warning("%s interrupted jobs are taken up again", taken_up)
    if taken_up or at_start:
        for pk in Job.objects.filter(state=Job.State.WAITING).order_by("pk").values_list("pk", flat=True):
            run_job(pk)
    return taken_up
