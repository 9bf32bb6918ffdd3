"""The sound of a track, the picture of it, and the deep look that makes the picture."""

import math
from collections.abc import Sequence

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.cache import cache_control
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.sound.fine_picture import load_picture
from rumbrel.web.ui.answers import back_to
from rumbrel.web.ui.ranges import ranged_answer
from rumbrel.web.ui.seen import SeenError

from .. import services
from ..forms import PictureForm, SentenceForm
from ..models import Track
from ..pictures import picture_path, spectrum_record
from ..queries import find_tracks, pulled_as_shown
from .track import look_context


@require_safe
def sound(request: HttpRequest, pk: int) -> HttpResponseBase:
    track = get_object_or_404(Track, pk=pk)
    try:
        heard = services.hear_track(track=track, decoded="decoded" in request.GET)
        return ranged_answer(
            request, heard.read, total_bytes=heard.total_bytes, media_type=heard.media_type, tag=heard.tag
        )
    except RumbrelError as error:
        return HttpResponse(str(error), status=409, content_type="text/plain; charset=utf-8")


@require_safe
def picture(request: HttpRequest, pk: int) -> HttpResponse:
    """A stretch of the picture in columns, as the ruler draws it."""
    form = PictureForm(request.GET)
    try:
        kept = load_picture(picture_path(pk))
    except RumbrelError as error:
        return JsonResponse({"error": str(error)}, status=409)
    if kept is None:
        raise Http404("This track has not been analysed.")
    start, end, columns = form.stretch(kept.samples / kept.sample_rate)
    view = kept.view(start, end, columns)
    return JsonResponse(
        {
            "lows": view.lows.tolist(),
            "highs": view.highs.tolist(),
            "loudness": [None if math.isnan(value) else max(-99.0, round(float(value), 1)) for value in view.loudness],
            **spectrum_record(kept, view),
        }
    )


@require_safe
@cache_control(private=True, max_age=3600)
def cover(request: HttpRequest, pk: int, number: int) -> HttpResponse:
    """A picture of the tags, small; the address holds when the file was last changed."""
    try:
        return HttpResponse(
            services.show_cover(track=get_object_or_404(Track, pk=pk), number=number), content_type="image/jpeg"
        )
    except RumbrelError as error:
        return HttpResponse(str(error), status=409, content_type="text/plain; charset=utf-8")


@require_safe
def look(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "collection/_look.html", look_context(get_object_or_404(Track, pk=pk)))


@require_POST
def start_look(request: HttpRequest, pk: int) -> HttpResponse:
    services.start_looks(track_ids=[get_object_or_404(Track, pk=pk).pk])
    return render(request, "collection/_look.html", look_context(get_object_or_404(Track, pk=pk)))


@require_POST
def look_at_pulled(request: HttpRequest) -> HttpResponse:
    try:
        ids = pulled_as_shown(request)
    except SeenError as error:
        messages.error(request, str(error))
        return back_to(request, "collection:index")
    return _look_at(request, ids)


@require_POST
def look_at_found(request: HttpRequest) -> HttpResponse:
    """A look at all that the sentence finds."""
    found = find_tracks(SentenceForm(request.GET).sentence()).filter(usable=True, missing_since=None)
    return _look_at(request, list(found.values_list("pk", flat=True)))


def _look_at(request: HttpRequest, ids: Sequence[int]) -> HttpResponse:
    try:
        services.start_looks(track_ids=ids)
    except RumbrelError as error:
        messages.error(request, str(error))
        return back_to(request, "collection:index")
    return redirect("jobs:work")
