"""Forecast, run, report."""

import tempfile
import zipfile
from pathlib import Path

from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import Action, WhenPresent
from rumbrel.core.targets import Target, all_targets, find_target
from rumbrel.web.collection.services import pulled_tracks

from . import services
from .models import Batch, Item


def index(request: HttpRequest) -> HttpResponse:
    return render(request, "batches/index.html", {"batches": Batch.objects.all()[:200]})


def _asked(values: dict[str, str]) -> tuple[Target, WhenPresent]:
    when = values.get("when", "skip")
    return find_target(values.get("target") or "car-mp3"), WhenPresent(when if when in set(WhenPresent) else "skip")


def forecast(request: HttpRequest) -> HttpResponse:
    tracks = pulled_tracks()
    try:
        target, when = _asked(request.GET.dict())
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("targets")
    plan = services.forecast(tracks, target, when)
    titles = {track.path: track.title for track in tracks}
    rows = [
        {
            "title": titles.get(step.source.path, ""),
            "step": step,
            "now": services.now_text(step),
            "after": services.after_text(step),
            "bytes_after": step.after.size_bytes if step.after and step.action is not Action.SKIP else 0,
        }
        for step in plan.steps
    ]
    counts = {action: sum(step.action is action for step in plan.steps) for action in Action}
    context = {
        "plan": plan,
        "rows": rows,
        "counts": counts,
        "level": target.level,
        "target": target,
        "when": when,
        "targets": all_targets(),
        "whens": list(WhenPresent),
        "place": services.place_for(target),
        "largest": max([1, *(max(row["step"].source.size_bytes, row["bytes_after"]) for row in rows)]),
        "can_start": bool(plan.working),
    }
    return render(request, "batches/forecast.html", context)


@require_POST
def start(request: HttpRequest) -> HttpResponse:
    tracks = pulled_tracks()
    if not tracks:
        messages.error(request, "The pull list is empty. Pull tracks in the collection first.")
        return redirect("collection")
    try:
        target, when = _asked(request.POST.dict())
        found = services.start(tracks, target, when)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("forecast")
    return redirect("batch", pk=found.pk)


def batch(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Batch, pk=pk)
    items = list(found.items.all())
    context = {
        "batch": found,
        "items": items,
        "counts": found.counts,
        "pace": services.pace(found),
        "largest": max([1, *(max(item.bytes_in, item.bytes_out or item.bytes_after) for item in items)]),
        "bytes_in": sum(item.bytes_in for item in items if item.state == Item.State.DONE),
        "bytes_out": sum(item.bytes_out for item in items),
    }
    return render(request, "batches/_batch.html" if request.htmx else "batches/batch.html", context)


@require_POST
def cancel(request: HttpRequest, pk: int) -> HttpResponse:
    services.cancel(get_object_or_404(Batch, pk=pk))
    return redirect("batch", pk=pk)


@require_POST
def resume(request: HttpRequest, pk: int) -> HttpResponse:
    services.resume(get_object_or_404(Batch, pk=pk))
    return redirect("batch", pk=pk)


def download(request: HttpRequest, pk: int) -> FileResponse:
    item = get_object_or_404(Item, pk=pk, state=Item.State.DONE)
    path = Path(item.output)
    if not path.is_file() or not path.resolve().is_relative_to(Path(item.batch.place).resolve()):
        raise Http404("The result is not there any more.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)


def download_all(request: HttpRequest, pk: int) -> FileResponse:
    """One archive. Stored, not packed: sound does not shrink further."""
    found = get_object_or_404(Batch, pk=pk)
    results = services.result_paths(found)
    if not results:
        raise Http404("This batch has no results yet.")
    archive = tempfile.TemporaryFile()  # noqa: SIM115 - the response closes it
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_STORED) as writer:
        for path, name in results:
            writer.write(path, name)
    archive.seek(0)
    return FileResponse(archive, as_attachment=True, filename=f"batch-{found.pk}.zip")
