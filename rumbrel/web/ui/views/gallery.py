"""Every piece of the interface in every state, on one page."""

from django.conf import settings
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

LENGTHS = (252, 198, 301, 263, 346, 224, 187, 712, 655, 94, 276, 248, 402, 311, 290, 288)
EDGES_MM = (25, 29.5, 33, 38, 41, 47, 52, 56.5)
FITS = ("plays", "rewrap", "convert", "cannot")


@require_safe
def gallery(request: HttpRequest) -> HttpResponse:
    if not settings.RUMBREL.shows_gallery:
        raise Http404("The gallery is off. RUMBREL_GALLERY=1 shows it.")
    context = {
        "lengths": LENGTHS,
        "few": LENGTHS[:6],
        "none": (),
        "rings": [
            (a, b, number, number) for number, (a, b) in enumerate(zip(EDGES_MM[:-1], EDGES_MM[1:], strict=True), 1)
        ],
        "marks": [FITS[number % 4] for number in range(9)],
        "crowd": [FITS[number % 4] for number in range(160)],
    }
    return render(request, "ui/gallery.html", context)
