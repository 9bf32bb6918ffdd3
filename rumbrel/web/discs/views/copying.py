"""A disc that is copied as it is: how far it is, and what the copy was held against."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.jobs.rows import job_row
from rumbrel.web.jobs.services import stop_job

from ..models import DiscCopy
from ..queries import copies


def _context(pk: int) -> dict[str, Any]:
    copy: DiscCopy = get_object_or_404(copies(), pk=pk)
    again = [row for row in copy.read if row["reread"]]
    return {
        "copy": copy, "work": job_row(copy.job) if copy.job else None, "reread": sum(row["reread"] for row in again),
        "reread_tracks": [row["number"] for row in again],
    }  # fmt: skip


@require_safe
def page(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "discs/copy.html", _context(pk))


@require_safe
def state(request: HttpRequest, pk: int) -> HttpResponse:
    """What changes while it is copied."""
    return render(request, "discs/_copy.html", _context(pk))


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    copy = get_object_or_404(copies(), pk=pk)
    if copy.job:
        stop_job(job=copy.job)
    return redirect("discs:copy", pk=pk)
