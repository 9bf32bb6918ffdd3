"""The bench: the stand-ins that ship with Rumbrel."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from rumbrel.core.bench.drive import DRIVES
from rumbrel.core.disc.media import MEDIA
from rumbrel.core.places import VOLUME_KINDS
from rumbrel.web.discs.queries import written_discs

from ..rows import blank_row


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    context = {
        "blanks": [blank_row(medium) for medium in MEDIA],
        "drives": DRIVES,
        "volumes": VOLUME_KINDS,
        "written": written_discs()[:50],
    }
    return render(request, "bench/bench.html", context)
