"""The table of tracks: page and rows from one query."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import SentenceForm
from ..queries import find_tracks, page_of, totals_of


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
    query = request.GET.urlencode()
    return redirect(reverse("collection:index") + (f"?{query}" if query else ""))
