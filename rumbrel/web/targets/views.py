"""Targets, and what plays where."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from rumbrel.core.formats.encodings import encoding_for
from rumbrel.core.targets import all_targets, fit_to
from rumbrel.web.collection.services import facts_of, pulled_tracks


def index(request: HttpRequest) -> HttpResponse:
    rows = [(target, encoding_for(target.make.encoding)) for target in all_targets()]
    return render(request, "targets/index.html", {"rows": rows})


def where(request: HttpRequest) -> HttpResponse:
    tracks = pulled_tracks()
    rows = [(track, [fit_to(facts_of(track), target) for target in all_targets()]) for track in tracks]
    return render(request, "targets/where.html", {"targets": all_targets(), "rows": rows})
