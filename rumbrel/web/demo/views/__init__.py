"""The tour of the demo."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from rumbrel.web.ui.answers import back_to

from .. import tour

__all__ = ["leave", "to_next"]


@require_POST
def to_next(request: HttpRequest) -> HttpResponse:
    return redirect(tour.to_next())


@require_POST
def leave(request: HttpRequest) -> HttpResponse:
    tour.leave()
    return back_to(request, "collection:index")
