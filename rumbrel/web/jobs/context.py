"""What the head of every page shows of the work under way."""

from typing import Any

from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from .queries import active_jobs
from .rows import job_row

__all__ = ["head_work"]

_MOST_COUNTED = 100


def head_work(request: HttpRequest) -> dict[str, Any]:
    """The job at work and how many there are; asked for only by pages that show a head."""

    def found() -> dict[str, Any]:
        jobs = list(active_jobs()[:_MOST_COUNTED])
        first = job_row(jobs[0]) if jobs else None
        return {
            "first": first,
            "percent": round(100 * first.share) if first else 0,
            "count": len(jobs),
            "ids": ",".join(str(job.pk) for job in jobs),
        }

    return {"head_work": SimpleLazyObject(found)}
