"""Help, the gallery of pieces, and the pull list's strip."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from rumbrel.core.targets import Fit, FitKind, all_targets
from rumbrel.web.collection.models import Track
from rumbrel.web.targets.services import Standing

SHORTCUTS = (
    ("j / k", "next and previous row"),
    ("p", "pull the row, or put it back"),
    ("enter", "show the row's track; start on the forecast"),
    ("/", "search the collection"),
    ("f", "forecast for the pulled tracks"),
    ("l", "make a playlist of the pulled tracks"),
    ("d", "light or dark"),
    ("?", "this page"),
)


def help_page(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/help.html", {"shortcuts": SHORTCUTS})


def gallery(request: HttpRequest) -> HttpResponse:
    lengths = [252, 198, 301, 263, 346, 224, 187, 712, 655, 94, 276, 248, 402, 311, 290, 288]
    edges = [25, 29.5, 33, 38, 41, 47, 52, 56.5]
    context = {
        "lengths": lengths,
        "few": lengths[:6],
        "none": [],
        "rings": [(a, b, number) for number, (a, b) in enumerate(zip(edges[:-1], edges[1:], strict=True), 1)],
        "standing": _standing(9),
        "crowd": _standing(220),
    }
    return render(request, "ui/gallery.html", context)


def _standing(count: int) -> Standing:
    """Made-up tracks, each kind of fit in turn."""
    kinds = list(FitKind)
    fits = tuple(
        (Track(title=f"Track {number}"), Fit(kind=kinds[number % len(kinds)], reason="made up"))
        for number in range(count)
    )
    return Standing(target=all_targets()[0], fits=fits)


def pull_strip(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/_pull.html")


def head_work(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/_head_work.html")
