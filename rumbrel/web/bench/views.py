"""The bench: the stand-ins that ship with Rumbrel."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from rumbrel.core.disc.media import MEDIA
from rumbrel.web.discs.models import Disc


def index(request: HttpRequest) -> HttpResponse:
    rows = [
        (medium, [(speed, medium.write_seconds(medium.capacity_sectors, speed)) for speed in medium.speeds])
        for medium in MEDIA
    ]
    written = Disc.objects.filter(state=Disc.State.WRITTEN).select_related("playlist")
    return render(request, "bench/index.html", {"rows": rows, "written": written})
