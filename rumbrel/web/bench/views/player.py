"""The stand-in player: what it shows of a disc, and how that sounds."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.web.ui.ranges import ranged_answer

from .. import services
from ..forms import PutInForm


@require_safe
def page(request: HttpRequest) -> HttpResponse:
    context = {"inside": services.disc_in_player(), "put_in": PutInForm(shelf=services.discs_on_shelf())}
    return render(request, "bench/player.html", context)


@require_POST
def put_in(request: HttpRequest) -> HttpResponse:
    form = PutInForm(request.POST, shelf=services.discs_on_shelf())
    if not form.is_valid():
        messages.error(request, "That disc is no longer on the shelf. Choose another one.")
        return redirect("bench:player")
    services.put_into_player(disc_key=form.cleaned_data["disc"])
    return redirect("bench:player")


@require_POST
def take_out(request: HttpRequest) -> HttpResponse:
    services.take_from_player()
    return redirect("bench:index")


@require_safe
def played(request: HttpRequest, part: str) -> HttpResponseBase:
    """A track from its index 1 to the next one's, what is hidden before the first, or where two meet."""
    inside = services.disc_in_player()
    try:
        track = services.played_track(part)
        return ranged_answer(
            request, track.read, total_bytes=track.shape.total_bytes, media_type="audio/wav",
            tag=f"{inside.mark if inside else ''}-{part}",
        )  # fmt: skip
    except RumbrelError as error:
        return HttpResponse(str(error), status=409, content_type="text/plain; charset=utf-8")
