"""Work: what runs, waits and ended."""

from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.ui.answers import back_to

from .. import services
from ..forms import WatchedForm
from ..machines import machines
from ..models import Job
from ..queries import active_jobs, ended_jobs
from ..rows import job_row

PAGE_JOBS = 50


def _context(request: HttpRequest) -> dict[str, object]:
    known, lost = machines()
    page = Paginator(ended_jobs(), PAGE_JOBS).get_page(request.GET.get("page"))
    return {
        "active": [job_row(job) for job in active_jobs()[:200]],
        "ended": [job_row(job) for job in page],
        "page": page,
        "machines": known,
        "machines_lost": lost,
    }


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    return render(request, "jobs/work.html", _context(request))


@require_safe
def listing(request: HttpRequest) -> HttpResponse:
    return render(request, "jobs/_work.html", _context(request))


@require_safe
def head(request: HttpRequest) -> HttpResponse:
    """The head's line, with what ended of the jobs that the page was watching."""
    ended = ended_jobs().filter(pk__in=WatchedForm(request.GET).ids())
    return render(request, "jobs/_head.html", {"announced": [job_row(job) for job in ended]})


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    services.stop_job(job=get_object_or_404(Job, pk=pk))
    return back_to(request, "jobs:work")


@require_POST
def resume(request: HttpRequest, pk: int) -> HttpResponse:
    services.continue_job(job=get_object_or_404(Job, pk=pk))
    return back_to(request, "jobs:work")
