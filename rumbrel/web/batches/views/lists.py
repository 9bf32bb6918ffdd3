"""A playlist as a file for a device."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.targets import find_target
from rumbrel.web.playlists.models import Playlist

from .. import services
from ..forms import ExportForm

_TYPES = {".m3u8": "application/vnd.apple.mpegurl", ".xspf": "application/xspf+xml"}


@require_safe
def export(request: HttpRequest, pk: int) -> HttpResponse:
    """What is to be chosen; with a choice made, the file."""
    found = get_object_or_404(Playlist, pk=pk)
    form = ExportForm(request.GET or None)
    if not form.is_valid():
        return render(request, "batches/export_list.html", {"playlist": found, "form": form})
    slug, suffix = form.cleaned_data["paths"], form.cleaned_data["kind"]
    try:
        exported = services.export_list(playlist=found, target=find_target(slug) if slug else None, suffix=suffix)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("batches:export-list", pk=pk)
    if exported.left_out and "anyway" not in request.GET:
        context = {"playlist": found, "form": form, "exported": exported}
        return render(request, "batches/export_list.html", context)
    answer = HttpResponse(exported.data, content_type=_TYPES.get(suffix, "audio/x-mpegurl"))
    answer["Content-Disposition"] = f'attachment; filename="{slugify(found.name) or "list"}{suffix}"'
    return answer
