"""A job as screens show it."""

from dataclasses import dataclass

from django.utils import timezone

from rumbrel.core.progress import Unit

from .models import Job
from .registry import kind_for

__all__ = ["JobRow", "job_row"]

_SECONDS_BEFORE_GUESSING = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class JobRow:
    """left_seconds is None where nothing can be said yet; speed is times real time, 0 where that means nothing."""

    job: Job
    address: str
    share: float
    left_seconds: float | None
    speed: float
    counts: str
    continues: bool


def job_row(job: Job) -> JobRow:
    kind = kind_for(job.kind)
    elapsed = ((job.ended_at or timezone.now()) - job.started_at).total_seconds() if job.started_at else 0.0
    guesses = job.state == Job.State.RUNNING and elapsed > _SECONDS_BEFORE_GUESSING and job.done > 0
    counts = f"{job.finished:,} of {job.items:,}" if job.items else ""
    return JobRow(
        job=job,
        address=kind.address(job.subject) if kind else "",
        share=job.share,
        left_seconds=(job.total - job.done) * elapsed / job.done if guesses else None,
        speed=job.done / elapsed if elapsed > 1 and job.unit == Unit.SECONDS else 0.0,
        counts=counts,
        continues=bool(kind and kind.continues) and _can_go_on(job),
    )


def _can_go_on(job: Job) -> bool:
    """Whether it makes sense to let the work go on: it ended before its end, or is being stopped."""
    if job.active:
        return job.stop_asked and not job.again
    return job.state in (Job.State.STOPPED, Job.State.FAILED)
