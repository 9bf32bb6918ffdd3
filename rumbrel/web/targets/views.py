"""Targets, and what plays where."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from rumbrel.core.formats.encodings import encoding_for
from rumbrel.core.targets import FitKind, all_targets
from rumbrel.web.collection.services import pulled_tracks

from .services import standings


def index(request: HttpRequest) -> HttpResponse:
    rows = [(target, encoding_for(target.make.encoding)) for target in all_targets()]
    return render(request, "targets/index.html", {"rows": rows})


def where(request: HttpRequest) -> HttpResponse:
    slug = request.GET.get("target", "")
    known = slug if any(target.slug == slug for target in all_targets()) else ""
    tracks = pulled_tracks()
    context = {
        "count": len(tracks),
        "rows": standings(tracks, known),
        "targets": all_targets(),
        "chosen": known,
        "kinds": list(FitKind),
    }
    return render(request, "targets/where.html", context)
