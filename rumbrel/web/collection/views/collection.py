"""The table of tracks: page and rows from one query."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.answers import back_to, undo
from rumbrel.web.ui.asking import who_asks
from rumbrel.web.ui.templatetags.figures import bytes_text, clock
from rumbrel.web.ui.words import counted

from .. import services
from ..columns import COLUMNS, column_heads, columns_left, title_sorting
from ..forms import GroupForm, SavedViewForm, SentenceForm
from ..models import SavedView, SourceFolder
from ..queries import (
    Share,
    find_tracks,
    groups_of,
    lossless_part,
    page_of,
    shares_of_collection,
    totals_of,
    tracks_by_decade,
)
from ..rows import csv_lines, json_lines
from ..sentence import NONE, Sentence

_EXPORTS = {"csv": "text/csv", "jsonl": "application/jsonl"}


def _found(request: HttpRequest) -> dict[str, Any]:
    form = SentenceForm(request.GET)
    sentence, cursor, names = form.sentence(), form.cursor(), form.columns()
    scanning = Job.objects.filter(kind="scan", state__in=Job.ACTIVE)
    return {
        "form": form,
        "remarks": form.remarks(),
        "totals": totals_of(sentence),
        "all": totals_of(type(sentence)()),
        "page": page_of(find_tracks(sentence), **cursor),
        "scans": list(scanning),
        "heads": column_heads(names, sentence, request.GET),
        "columns": [COLUMNS[name] for name in names],
        "columns_left": columns_left(names, request.GET),
        "columns_asked": "columns" in request.GET,
        "by_title": title_sorting(sentence, request.GET),
        "views": SavedView.objects.filter(owner=who_asks(), removed_at=None),
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
    rows, more = groups_of(form.sentence(), by, after=grouped.after(), folder=grouped.after_folder())
    context = {
        "form": form,
        "grouped": grouped,
        "by": by,
        "rows": rows,
        "more": more,
        "totals": totals_of(form.sentence()),
        "folders": {folder.pk: folder.name for folder in SourceFolder.objects.all()},
    }
    return render(request, "collection/groups.html", context)


@require_POST
def keep_view(request: HttpRequest) -> HttpResponse:
    """Keep what is shown under a name, in place of what that stood for."""
    form = SavedViewForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Give the view a name of at most 80 characters.")
        return back_to(request, "collection:index")
    view = services.keep_view(**form.cleaned_data)
    messages.success(request, f"Kept as {view.name}.")
    return redirect(f"{reverse('collection:index')}?{view.query}")


@require_POST
def remove_view(request: HttpRequest, pk: int) -> HttpResponse:
    view = get_object_or_404(SavedView, pk=pk, owner=who_asks())
    services.remove_view(view=view)
    address = reverse("collection:restore-view", args=[pk])
    messages.success(request, f"The view {view.name} is removed.", extra_tags=undo(address))
    return back_to(request, "collection:index")


@require_POST
def restore_view(request: HttpRequest, pk: int) -> HttpResponse:
    services.restore_view(view=get_object_or_404(SavedView, pk=pk, owner=who_asks()))
    return back_to(request, "collection:index")


@require_safe
def overview(request: HttpRequest) -> HttpResponse:
    """The collection by format, rate and fault; each part leads to its tracks."""
    shares = shares_of_collection()
    tracks_at = reverse("collection:index")
    pictures = [
        (
            heading,
            [
                ("Hours", [(row.label, f"{tracks_at}?{row.query}", row.seconds, _said(row)) for row in rows]),
                ("Bytes", [(row.label, f"{tracks_at}?{row.query}", row.size_bytes, _said(row)) for row in rows]),
            ],
        )
        for heading, rows in shares.items()
        if heading != "Fault"
    ]
    faults = [
        (row.label, f"{tracks_at}?{row.query}", row.tracks, _said(row))
        for row in shares["Fault"]
        if row.query != f"fault={NONE}"
    ]
    decades = [
        (label, f"{tracks_at}?{query}", tracks, f"{label}: {counted(tracks, 'track')}")
        for label, query, tracks in tracks_by_decade()
    ]
    context = {
        "shares": shares,
        "pictures": [
            *pictures,
            ("Year", [("Tracks", decades)]),
            *([("Fault", [("Tracks", faults)])] if faults else []),
        ],
        "all": totals_of(Sentence()),
        "lossless": lossless_part(),
    }
    return render(request, "collection/overview.html", context)


def _said(share: Share) -> str:
    return f"{share.label}: {counted(share.tracks, 'track')}, {clock(share.seconds)}, {bytes_text(share.size_bytes)}"


@require_safe
def export(request: HttpRequest, kind: str) -> HttpResponseBase:
    """All that the sentence finds, as a table or as a record a line."""
    tracks = find_tracks(SentenceForm(request.GET).sentence())
    lines = csv_lines(tracks) if kind == "csv" else json_lines(tracks)
    answer = StreamingHttpResponse(lines, content_type=f"{_EXPORTS[kind]}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="tracks.{kind}"'
    return answer
