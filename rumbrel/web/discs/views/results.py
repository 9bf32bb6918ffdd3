"""What can be had of a written disc."""

from pathlib import Path

from django.conf import settings
from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import DiscError, RumbrelError
from rumbrel.web.batches.services import stream_archive
from rumbrel.web.jobs.services import start_job
from rumbrel.web.ui.ranges import ranged_answer

from .. import services
from ..models import Disc
from ..queries import discs, written_discs

IMAGE_KINDS = ("bin", "cue", "cdt", "sub", "digests", "iso")


def _written(pk: int) -> Disc:
    return get_object_or_404(written_discs(), pk=pk)


@require_safe
def download(request: HttpRequest, pk: int, kind: str) -> FileResponse:
    """A file of the image, by its ending."""
    found = _written(pk)
    files = {file.path.suffix[1:]: file.path for file in services.image_files(found) if "/" not in file.name}
    path = files.get(kind) if kind in IMAGE_KINDS else None
    if path is None or not path.resolve().is_relative_to(settings.RUMBREL.discs.resolve()):
        raise Http404("That file is not there.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)


@require_safe
def archive(request: HttpRequest, pk: int) -> StreamingHttpResponse:
    """All files of the written disc in one."""
    found = _written(pk)
    files = [(file.path, file.name) for file in services.image_files(found)]
    answer = StreamingHttpResponse(stream_archive(files=files), content_type="application/zip")
    answer["Content-Disposition"] = f'attachment; filename="disc-{pk}.zip"'
    return answer


@require_safe
def sheet(request: HttpRequest, pk: int) -> HttpResponse:
    """A page of plain text for burning the disc on real hardware."""
    found = _written(pk)
    try:
        text = services.burning_page(found)
    except DiscError as error:
        raise Http404(str(error)) from error
    answer = HttpResponse(text, content_type="text/plain; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="disc-{pk}.txt"'
    return answer


@require_POST
def make_form(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """The same disc as WAV files or as one FLAC."""
    found = _written(pk)
    if kind not in services.FORMS:
        raise Http404("There is no such form of a disc.")
    start_job(kind=f"disc-{kind}", subject=pk, title=f"{found} as {kind.upper()}")
    messages.success(request, f"The disc as {kind.upper()} is being made; it appears among the files.")
    return redirect("discs:writing", pk=pk)


@require_safe
def seam(request: HttpRequest, pk: int, key: int) -> HttpResponseBase:
    """Where a track meets the one before it, before anything is written."""
    found = get_object_or_404(discs(), pk=pk)
    try:
        heard = services.hear_join(disc=found, key=key, joined="joined" in request.GET)
        return ranged_answer(
            request, heard.read, total_bytes=heard.total_bytes, media_type=heard.media_type, tag=heard.tag
        )
    except RumbrelError as error:
        return HttpResponse(str(error), status=409, content_type="text/plain; charset=utf-8")


@require_safe
def played(request: HttpRequest, pk: int, number: int) -> HttpResponseBase:
    """A track of the written image as the stand-in player plays it."""
    found = _written(pk)
    try:
        track = services.play_track(Path(found.image_path).with_suffix(".cue"), str(number))
        return ranged_answer(
            request, track.read, total_bytes=track.shape.total_bytes, media_type="audio/wav",
            tag=f"{pk}-{found.written_mark[:16]}-{number}",
        )  # fmt: skip
    except RumbrelError as error:
        return HttpResponse(str(error), status=409, content_type="text/plain; charset=utf-8")
