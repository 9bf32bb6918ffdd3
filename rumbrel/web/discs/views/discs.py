"""Discs: layout, time check, write, read-back."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.core.paginator import Paginator
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.disc.media import speed_advice
from rumbrel.core.errors import RumbrelError
from rumbrel.core.verdict import Verdict
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.jobs.services import stop_job
from rumbrel.web.playlists.models import Playlist

from .. import services
from ..forms import DiscForm
from ..models import Disc
from ..queries import discs, written_discs
from ..rows import geometry, is_as_written, track_rows

PAGE_DISCS = 100
IMAGE_KINDS = ("bin", "cue")


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    page = Paginator(discs(), PAGE_DISCS).get_page(request.GET.get("page"))
    return render(request, "discs/discs.html", {"page": page})


@require_POST
def lay_out(request: HttpRequest, pk: int) -> HttpResponse:
    playlist = get_object_or_404(Playlist, pk=pk)
    return redirect("discs:disc", pk=Disc.objects.create(playlist=playlist).pk)


def _context(found: Disc) -> dict[str, Any]:
    planned = services.plan_layout(disc=found)
    layout = planned.plan.layout
    return {
        "disc": found,
        "form": DiscForm.of(found),
        "layout": layout,
        "tracks": track_rows(found, planned),
        "remarks": [finding for finding in planned.findings if finding.verdict is not Verdict.PASSED],
        "passed": [finding for finding in planned.findings if finding.verdict is Verdict.PASSED],
        "offers": planned.plan.offers,
        "writable": planned.writable,
        "as_written": is_as_written(found, planned),
        "advice": speed_advice(layout.medium, found.speed),
        "write_seconds": layout.medium.write_seconds(layout.total_sectors, found.speed),
        "geometry": geometry(layout),
        "work": job_row(found.job) if found.job else None,
    }


def _disc(pk: int) -> Disc:
    return get_object_or_404(discs(), pk=pk)


@require_safe
def disc(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "discs/disc.html", _context(_disc(pk)))


@require_safe
def body(request: HttpRequest, pk: int) -> HttpResponse:
    """What changes while the disc is written: the tracks with their read-back, and the write itself."""
    return render(request, "discs/_body.html", _context(_disc(pk)))


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    found = _disc(pk)
    try:
        services.change_disc(disc=found, wishes=DiscForm(request.POST, disc=found).wishes())
    except RumbrelError as error:
        messages.error(request, str(error))
    return redirect("discs:disc", pk=pk)


@require_POST
def write(request: HttpRequest, pk: int) -> HttpResponse:
    try:
        services.start_write(disc=_disc(pk))
    except RumbrelError as error:
        messages.error(request, str(error))
    return redirect("discs:disc", pk=pk)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    found = _disc(pk)
    if found.job:
        stop_job(job=found.job)
    return redirect("discs:disc", pk=pk)


@require_safe
def download(request: HttpRequest, pk: int, kind: str) -> FileResponse:
    found = get_object_or_404(written_discs(), pk=pk)
    path = Path(found.image_path).with_suffix(f".{kind}")
    inside = path.resolve().is_relative_to(settings.RUMBREL.discs.resolve())
    if kind not in IMAGE_KINDS or not inside or not path.is_file():
        raise Http404("That file is not there.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)
