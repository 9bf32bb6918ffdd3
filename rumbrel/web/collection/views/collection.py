"""The table of tracks: page and rows from one query."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.answers import back_to
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import GroupForm, SentenceForm
from ..queries import Sentence, find_tracks, groups_of, lossless_part, page_of, shares_of_collection, totals_of
from ..rows import csv_lines, json_lines

_EXPORTS = {"csv": "text/csv", "jsonl": "application/jsonl"}


def _found(request: HttpRequest) -> dict[str, Any]:
    form = SentenceForm(request.GET)
    sentence, cursor = form.sentence(), form.cursor()
    scanning = Job.objects.filter(kind="scan", state__in=Job.ACTIVE)
    return {
        "form": form,
        "remarks": form.remarks(),
        "totals": totals_of(sentence),
        "all": totals_of(type(sentence)()),
        "page": page_of(find_tracks(sentence), "", **cursor),
        "scans": list(scanning),
    }


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    return render(request, "collection/collection.html", _found(request))


@require_safe
def rows(request: HttpRequest) -> HttpResponse:
    """The rows alone; the page's own address is what the browser remembers."""
    response = render(request, "collection/_rows.html", _found(request))
    if request.headers.get("HX-Trigger") != "scan-watch":
        query = request.GET.urlencode()
        response["HX-Push-Url"] = reverse("collection:index") + (f"?{query}" if query else "")
    return response


@require_POST
def pull_all(request: HttpRequest) -> HttpResponse:
    added = services.pull_found(sentence=SentenceForm(request.GET).sentence())
    messages.success(request, f"{counted(added, 'track')} pulled.")
    if request.POST.get("back"):
        return back_to(request, "collection:index")
    query = request.GET.urlencode()
    return redirect(reverse("collection:index") + (f"?{query}" if query else ""))


@require_safe
def groups(request: HttpRequest) -> HttpResponse:
    """What the sentence finds by album or performer; a group is pulled whole."""
    form, grouped = SentenceForm(request.GET), GroupForm(request.GET)
    by = grouped.grouping()
    rows, more = groups_of(form.sentence(), by, after=grouped.after())
    context = {
        "form": form,
        "grouped": grouped,
        "by": by,
        "rows": rows,
        "more": more,
        "totals": totals_of(form.sentence()),
    }
    return render(request, "collection/groups.html", context)


@require_safe
def overview(request: HttpRequest) -> HttpResponse:
    """The collection by format, rate and fault; each part leads to its tracks."""
    shares = shares_of_collection()
    whole = totals_of(Sentence())
    lossless = lossless_part()
    context = {"shares": shares, "all": whole, "lossless": lossless}
    return render(request, "collection/overview.html", context)


@require_safe
def export(request: HttpRequest, kind: str) -> HttpResponseBase:
    """All that the sentence finds, as a table or as a record a line."""
    tracks = find_tracks(SentenceForm(request.GET).sentence())
    lines = csv_lines(tracks) if kind == "csv" else json_lines(tracks)
    answer = StreamingHttpResponse(lines, content_type=f"{_EXPORTS[kind]}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="tracks.{kind}"'
    return answer
