"""Start, stop and continue jobs."""

import logging
import sqlite3

from django.db import IntegrityError, transaction
from django.db.models import Min
from django.utils import timezone
from huey.exceptions import HueyException

from rumbrel.web.ui.asking import who_asks

from ..models import Job

__all__ = ["continue_job", "pause_job", "put_first", "queue_job", "start_job", "stop_job", "unpause_job"]

logger = logging.getLogger(__name__)


def start_job(*, kind: str, subject: int, title: str, once_more: bool = False) -> Job:
    """Queue work on a subject, for who asks; where such work waits or runs already, that is the job.

    Work that is being stopped goes on once its worker has let go. With once_more, work that runs is done
    again after its end, since it may have passed by what this is about.
    """
    with transaction.atomic():
        active = Job.objects.filter(kind=kind, subject=subject, state__in=Job.ACTIVE).first()
        if active:
            running = Job.objects.filter(pk=active.pk, state=Job.State.RUNNING)
            (running if once_more else running.filter(stop_asked=True)).update(again=True)
            return active
        job = Job.objects.create(kind=kind, subject=subject, title=title[:240], owner=who_asks())
        queue_job(job.pk)
    return job


def stop_job(*, job: Job) -> bool:
    """Ask for an end. What waits has ended with that; a worker hears of it at its next report.

    False when it had ended already, or when its end was asked for before.
    """
    mine = Job.objects.filter(pk=job.pk)
    if mine.filter(state=Job.State.WAITING).update(state=Job.State.STOPPED, ended_at=timezone.now()):
        return True
    running = mine.filter(state=Job.State.RUNNING)
    return bool(running.exclude(stop_asked=True, again=False).update(stop_asked=True, again=False))


def continue_job(*, job: Job) -> Job:
    """Let ended or stopping work go on where it was. Where newer work on its subject is under way, that is the job."""
    mine = Job.objects.filter(pk=job.pk)
    if mine.filter(state=Job.State.RUNNING, stop_asked=True).update(again=True):
        return mine.get()
    try:
        with transaction.atomic():
            ended = mine.filter(state__in=(Job.State.STOPPED, Job.State.FAILED))
            if ended.update(state=Job.State.WAITING, stop_asked=False, again=False, tries=0, error="", message=""):
                queue_job(job.pk)
    except IntegrityError:
        return Job.objects.get(kind=job.kind, subject=job.subject, state__in=Job.ACTIVE)
    return mine.get()


def pause_job(*, job: Job) -> bool:
    """Have a running job begin nothing new. False where it does not run, or is being stopped."""
    running = Job.objects.filter(pk=job.pk, state=Job.State.RUNNING, stop_asked=False)
    return bool(running.update(paused=True))


def unpause_job(*, job: Job) -> bool:
    """Let a paused job go on."""
    return bool(Job.objects.filter(pk=job.pk, paused=True).update(paused=False))


def put_first(*, job: Job) -> bool:
    """Let a waiting job come before all others that wait. False where it does not wait."""
    waiting = Job.objects.filter(state=Job.State.WAITING)
    lowest = waiting.aggregate(least=Min("place"))["least"] or 0
    return bool(waiting.filter(pk=job.pk).update(place=lowest - 1))


def queue_job(pk: int) -> None:
    """Tell the consumer once the job is in the database. Where that fails, the next look finds it waiting."""
    from ..tasks import run_job

    def tell() -> None:
        try:
            run_job(pk)
        except (HueyException, sqlite3.Error, OSError) as error:
            logger.warning("job %s waits for the next look: %s", pk, error)

    transaction.on_commit(tell)
