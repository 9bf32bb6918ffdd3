"""Start, stop and continue jobs."""

from django.db import transaction
from django.utils import timezone

from ..models import Job

__all__ = ["continue_job", "start_job", "stop_job"]


def start_job(*, kind: str, subject: int, title: str, owner: str = "") -> Job:
    """Queue work on a subject; where such work waits or runs already, that is the job."""
    with transaction.atomic():
        active = Job.objects.filter(kind=kind, subject=subject, state__in=Job.ACTIVE).first()
        if active:
            return active
        job = Job.objects.create(kind=kind, subject=subject, title=title[:240], owner=owner)
        _queue(job)
    return job


def stop_job(*, job: Job) -> bool:
    """Ask for an end; the worker hears of it at its next report. False when it had ended already."""
    active = Job.objects.filter(pk=job.pk, state__in=Job.ACTIVE)
    return bool(active.update(state=Job.State.STOPPED, ended_at=timezone.now()))


def continue_job(*, job: Job) -> Job:
    """Queue ended work again on the same subject: it goes on where it was."""
    return start_job(kind=job.kind, subject=job.subject, title=job.title, owner=job.owner)


def _queue(job: Job) -> None:
    from ..tasks import run_job

    transaction.on_commit(lambda: run_job(job.pk))
