"""Jobs as pages need them."""

from django.db.models import QuerySet

from .models import Job

__all__ = ["active_jobs", "ended_jobs"]


def active_jobs() -> QuerySet[Job]:
    """What runs, then what waits, as it comes to its turn."""
    return Job.objects.filter(state__in=Job.ACTIVE).order_by("state", "place", "pk")


def ended_jobs() -> QuerySet[Job]:
    """What ended, newest first."""
    return Job.objects.exclude(state__in=Job.ACTIVE).order_by("-pk")
