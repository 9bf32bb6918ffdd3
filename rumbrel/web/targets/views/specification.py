"""A target as a specification: what files have of each of its lines."""

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError, TargetError
from rumbrel.core.targets import listed_target
from rumbrel.web.collection.queries import known_tracks, pulled_ids
from rumbrel.web.jobs.rows import job_row

from .. import services
from ..models import SpecCheck
from ..rows import spec_rows

PAGE_FILES = 50


@require_POST
def hold(request: HttpRequest, slug: str) -> HttpResponse:
    """Hold the files of the pulled tracks against a target."""
    try:
        target = listed_target(slug)
    except TargetError as error:
        raise Http404(str(error)) from error
    files = {
        track.facts.path: services.HeldFile(
            title=track.title, path=track.facts.path, seconds=track.facts.duration_seconds
        )
        for track in known_tracks(pulled_ids())
        if track.facts is not None
    }
    try:
        check = services.start_holding(target=target, files=list(files.values()), about="the pulled files")
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("targets:target", slug)
    return redirect("targets:specification", check.pk)


@require_safe
def specification(request: HttpRequest, pk: int) -> HttpResponse:
    """The lines of each file; with all of them on one page, to be printed."""
    check = get_object_or_404(SpecCheck.objects.select_related("job"), pk=pk)
    rows = spec_rows(check)
    everything = request.GET.get("all") == "1"
    page = Paginator(rows, max(1, len(rows)) if everything else PAGE_FILES).get_page(request.GET.get("page"))
    context = {
        "check": check,
        "page": page,
        "work": job_row(check.job) if check.job else None,
        "busy": bool(check.job and check.job.active),
        "passed": sum(row.verdict == "passed" for row in rows),
        "failed": sum(row.verdict == "failed" for row in rows),
    }
    template = "targets/_specification.html" if request.htmx else "targets/specification.html"
    return render(request, template, context)
