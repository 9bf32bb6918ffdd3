"""The strip of the pull list, and clearing it."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.ui.answers import back_to, undo
from rumbrel.web.ui.words import counted

from .. import services


@require_safe
def strip(request: HttpRequest) -> HttpResponse:
    return render(request, "collection/_pull.html")


@require_POST
def clear(request: HttpRequest) -> HttpResponse:
    cleared = services.clear_pulls()
    messages.success(
        request,
        f"{counted(cleared, 'track')} taken off the pull list.",
        extra_tags=undo(reverse("collection:undo-clear")),
    )
    return back_to(request, "collection:index")


@require_POST
def undo_clear(request: HttpRequest) -> HttpResponse:
    restored = services.restore_pulls()
    messages.success(request, f"{counted(restored, 'track')} restored to the pull list.")
    return back_to(request, "collection:index")
