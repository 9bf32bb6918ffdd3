"""Discs: layout, time check, write, read-back."""

from functools import partial
from pathlib import Path

from django.conf import settings
from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from rumbrel.core.disc.checklist import checklist
from rumbrel.core.disc.fitting import offers
from rumbrel.core.disc.layout import DiscLayout, radius_mm
from rumbrel.core.disc.media import MEDIA, speed_advice
from rumbrel.core.errors import RumbrelError
from rumbrel.web.playlists.models import Playlist

from . import services
from .models import Disc


def index(request: HttpRequest) -> HttpResponse:
    return render(request, "discs/index.html", {"discs": Disc.objects.select_related("playlist")})


@require_POST
def lay_out(request: HttpRequest, pk: int) -> HttpResponse:
    playlist = get_object_or_404(Playlist, pk=pk)
    return redirect("disc", pk=Disc.objects.create(playlist=playlist).pk)


RIM_MM = 59.0


def _geometry(layout: DiscLayout) -> dict[str, object]:
    """Rings from the inside out, as far as there is disc."""
    radius = partial(radius_mm, pitch_um=layout.medium.pitch_um)
    rings = [(radius(t.start_sector), min(RIM_MM, radius(t.end_sector)), t.number) for t in layout.tracks]
    return {"rings": [ring for ring in rings if ring[0] < RIM_MM], "edge_mm": radius(layout.medium.capacity_sectors)}


def disc(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Disc.objects.select_related("playlist"), pk=pk)
    layout = services.layout_of(found)
    findings = checklist(layout)
    context = {
        "disc": found,
        "layout": layout,
        "findings": findings,
        "offers": offers(layout),
        "writable": layout.fits and all(finding.verdict != "failed" for finding in findings),
        "advice": speed_advice(layout.medium, found.speed),
        "media": MEDIA,
        "gaps": services.GAP_CHOICES,
        "left_out": services.left_out(found),
        "write_seconds": layout.medium.write_seconds(layout.total_sectors, found.speed),
        **_geometry(layout),
        "verdicts": {verdict["number"]: verdict["equal"] for verdict in found.verdicts},
    }
    return render(request, "discs/_write.html" if request.htmx else "discs/disc.html", context)


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Disc, pk=pk)
    try:
        services.change(
            found,
            medium=request.POST.get("medium", ""),
            gap=request.POST.get("gap", ""),
            speed=request.POST.get("speed", ""),
        )
    except RumbrelError as error:
        messages.error(request, str(error))
    return redirect("disc", pk=pk)


@require_POST
def write(request: HttpRequest, pk: int) -> HttpResponse:
    try:
        services.start_write(get_object_or_404(Disc.objects.select_related("playlist"), pk=pk))
    except RumbrelError as error:
        messages.error(request, str(error))
    return redirect("disc", pk=pk)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    services.stop_write(get_object_or_404(Disc, pk=pk))
    return redirect("disc", pk=pk)


def download(request: HttpRequest, pk: int, kind: str) -> FileResponse:
    found = get_object_or_404(Disc, pk=pk, state=Disc.State.WRITTEN)
    path = Path(found.image_path).with_suffix(f".{kind}")
    if kind not in ("bin", "cue") or not path.resolve().is_relative_to(settings.DISCS) or not path.is_file():
        raise Http404("That file is not there.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)
