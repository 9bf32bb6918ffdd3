"""The collection: gather, see, pull."""

from dataclasses import asdict
from typing import Any

from django.contrib import messages
from django.db.models import Sum
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST
from django_htmx.http import trigger_client_event

from rumbrel.core.errors import RumbrelError
from rumbrel.core.targets import all_targets, fit_to

from . import services
from .models import Pull, Scan, SourceFolder, Track

PAGE_TRACKS = 200


def _query(request: HttpRequest) -> services.Query:
    keys = services.Query.__dataclass_fields__
    return services.Query(**{key: request.GET[key] for key in keys if request.GET.get(key)})


def _page(request: HttpRequest) -> dict[str, Any]:
    query = _query(request)
    found = services.find_tracks(query)
    try:
        start = max(0, int(request.GET.get("start", 0)))
    except ValueError:
        start = 0
    totals = found.aggregate(seconds=Sum("seconds"), size=Sum("size_bytes"))
    count = found.count()
    longest = found.order_by("-seconds").values_list("seconds", flat=True).first() or 1
    return {
        "tracks": found[start : start + PAGE_TRACKS],
        "count": count,
        "total": Track.objects.count(),
        "seconds": totals["seconds"] or 0,
        "size": totals["size"] or 0,
        "longest": longest,
        "query": asdict(query),
        "choices": services.choices(),
        "orders": services.ORDERS,
        "start": start,
        "earlier": max(0, start - PAGE_TRACKS) if start else None,
        "later": start + PAGE_TRACKS if start + PAGE_TRACKS < count else None,
        "scans": Scan.objects.filter(state__in=[Scan.State.WAITING, Scan.State.RUNNING]),
    }


def index(request: HttpRequest) -> HttpResponse:
    template = "collection/_results.html" if request.htmx else "collection/index.html"
    return render(request, template, _page(request))


def track(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Track.objects.select_related("folder", "pull"), pk=pk)
    fits = [(target, fit_to(services.facts_of(found), target)) for target in all_targets()]
    return render(request, "collection/_track.html", {"track": found, "fits": fits})


@require_POST
def pull(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Track, pk=pk)
    services.toggle_pull(found)
    found = Track.objects.select_related("folder", "pull").get(pk=pk)
    longest = Track.objects.order_by("-seconds").values_list("seconds", flat=True).first() or 1
    response = render(request, "collection/_row.html", {"track": found, "longest": longest})
    return trigger_client_event(response, "pulled")


@require_POST
def pull_all(request: HttpRequest) -> HttpResponse:
    added = services.pull_all(_query(request))
    messages.success(request, f"{added} tracks pulled.")
    return redirect(f"/?{request.GET.urlencode()}")


@require_POST
def clear_pull(request: HttpRequest) -> HttpResponse:
    ids = list(Pull.objects.values_list("track_id", flat=True))
    Pull.objects.all().delete()
    request.session["cleared_pull"] = ids
    messages.success(request, f"{len(ids)} tracks taken off the pull list.", extra_tags="undo-clear")
    return redirect("collection")


@require_POST
def undo_clear(request: HttpRequest) -> HttpResponse:
    for pk in request.session.pop("cleared_pull", []):
        if Track.objects.filter(pk=pk).exists():
            Pull.objects.get_or_create(track_id=pk)
    return redirect("collection")


def folders(request: HttpRequest) -> HttpResponse:
    template = "collection/_folders.html" if request.htmx else "collection/folders.html"
    return render(request, template, {"folders": SourceFolder.objects.order_by("path"), "roots": services.roots()})


@require_POST
def add_folder(request: HttpRequest) -> HttpResponse:
    try:
        folder = services.add_folder(request.POST.get("path", ""))
    except RumbrelError as error:
        messages.error(request, str(error))
    else:
        messages.success(request, f"{folder.path} is being scanned.")
    return redirect("folders")


@require_POST
def scan(request: HttpRequest, pk: int) -> HttpResponse:
    services.start_scan(get_object_or_404(SourceFolder, pk=pk))
    return redirect("folders")


@require_POST
def stop_scan(request: HttpRequest, pk: int) -> HttpResponse:
    services.stop_scan(get_object_or_404(Scan, pk=pk))
    return redirect("folders")


@require_POST
def drop(request: HttpRequest) -> HttpResponse:
    files = request.FILES.getlist("files")
    if not files:
        messages.error(request, "No files came with that. Drop sound files on the page, or choose them.")
    else:
        messages.success(request, f"{services.take_dropped(files)} files taken in.")
    return redirect("folders")
