"""A disc in a drive: what is on it, what it is called, how each track was read, and what became of it."""

from typing import Any

from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.jobs.services import stop_job
from rumbrel.web.ui.answers import refusals_told

from .. import services
from ..forms import NamesForm, TakeInForm
from ..models import TakeIn
from ..rows import taken_before, taken_rows


def _taken(pk: int) -> TakeIn:
    return get_object_or_404(TakeIn.objects.select_related("job"), pk=pk)


def _context(taken: TakeIn) -> dict[str, Any]:
    sources = [source for source, _ in services.names_for_disc(taken)]
    if taken.names_from not in sources:
        sources.insert(0, taken.names_from)
    targets = [*taken.targets, "", ""]
    earlier, is_certain = taken_before(taken)
    rows = taken_rows(taken, earlier)
    on_disc = services.contents_of(taken)
    return {
        "taken": taken,
        "rows": rows,
        "form": TakeInForm(
            sources=sources,
            initial={
                "first": targets[0], "second": targets[1], "third": targets[2], "names": taken.names_from,
                "begins": "once" if services.bench_choice().begin_at_once else "",
                "hidden": "on" if taken.hidden else "", "emphasis": "on" if taken.deemphasis else "",
            },
        ),
        "has_hidden": services.has_hidden(on_disc) or taken.hidden,
        "has_emphasis": services.has_emphasis(on_disc),
        "earlier": earlier,
        "is_certain": is_certain,
        "work": job_row(taken.job) if taken.job else None,
        "changeable": not taken.busy and not taken.results,
        "left": any(row.chosen and not row.verdict for row in rows),
        "total_sectors": taken.contents["lead_out_sector"],
    }  # fmt: skip


@require_safe
def page(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "bench/taken.html", _context(_taken(pk)))


@require_safe
def state(request: HttpRequest, pk: int) -> HttpResponse:
    """What changes while it is read."""
    return render(request, "bench/_taken.html", _context(_taken(pk)))


@require_POST
def choose(request: HttpRequest, pk: int) -> HttpResponse:
    taken = _taken(pk)
    form = TakeInForm(
        request.POST, sources=[source for source, _ in services.names_for_disc(taken)] + [taken.names_from]
    )
    if not form.is_valid():
        messages.error(request, "Choose from what is offered.")
        return redirect("bench:taken", pk=pk)
    chosen = form.cleaned_data
    with refusals_told(request):
        slugs = [chosen["first"], chosen["second"], chosen["third"]]
        services.choose_targets(taken=taken, slugs=slugs, begin_at_once=chosen["begins"] == "once")
        services.choose_reading(
            taken=taken, hidden=chosen["hidden"] == "on", deemphasis=chosen["emphasis"] == "on"
        )  # fmt: skip
        if chosen["names"] and chosen["names"] != taken.names_from:
            services.choose_names(taken=taken, source=chosen["names"])
    return redirect("bench:taken", pk=pk)


@require_POST
def start(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the names as they were typed, and begin or go on."""
    taken = _taken(pk)
    form = NamesForm(request.POST, numbers=[track.number for track in services.contents_of(taken).tracks])
    if not form.is_valid():
        messages.error(request, "A name may have at most 500 characters.")
        return redirect("bench:taken", pk=pk)
    with refusals_told(request):
        if "title" in request.POST:
            services.change_names(taken=taken, names=form.names(), chosen=form.wanted())
            taken.refresh_from_db()
        if "only" not in request.POST:
            services.start_take_in(taken=taken)
    return redirect("bench:taken", pk=pk)


@require_POST
def copy(request: HttpRequest, pk: int) -> HttpResponse:
    """The disc that was taken in, from its sheet and files, onto the blank in a recorder."""
    try:
        made = services.copy_taken(taken=_taken(pk))
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:taken", pk=pk)
    return redirect("discs:copy", pk=made.pk)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    taken = _taken(pk)
    if taken.job:
        stop_job(job=taken.job)
    return redirect("bench:taken", pk=pk)


@require_POST
def keep(request: HttpRequest, pk: int, number: int) -> HttpResponse:
    """A doubtful track is kept all the same."""
    with refusals_told(request):
        services.keep_doubtful(taken=_taken(pk), number=number)
    return redirect("bench:taken", pk=pk)


@require_safe
def heard(request: HttpRequest, pk: int, number: int) -> FileResponse:
    """A track as it was read, before it is made into results."""
    path = services.track_file(_taken(pk), number)
    if not path.is_file():
        raise Http404("That track is no longer kept: it was made into results, or has not been read.")
    answer = FileResponse(path.open("rb"), content_type="audio/wav")
    answer["Cache-Control"] = "private, no-cache"
    return answer
