"""Source folders and dropped files."""

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import stop_job
from rumbrel.web.ui.removal import holders_of
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import DropForm, FolderForm
from ..models import SourceFolder
from ..queries import folder_rows


def _context() -> dict[str, Any]:
    rows = folder_rows()
    return {
        "rows": rows,
        "busy": any(row.scan and row.scan.active for row in rows),
        "roots": settings.RUMBREL.roots,
        "form": FolderForm(),
        "drop_form": DropForm(),
    }


@require_safe
def folders(request: HttpRequest) -> HttpResponse:
    return render(request, "collection/folders.html", _context())


@require_safe
def listing(request: HttpRequest) -> HttpResponse:
    return render(request, "collection/_folders.html", _context())


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    form = FolderForm(request.POST)
    try:
        path = form.cleaned_data["path"] if form.is_valid() else ""
        folder = services.add_folder(path=path)
    except RumbrelError as error:
        messages.error(request, str(error))
    else:
        messages.success(request, f"{folder.path} is being scanned.")
    return redirect("collection:folders")


@require_POST
def scan(request: HttpRequest, pk: int) -> HttpResponse:
    services.start_scan(folder=get_object_or_404(SourceFolder, pk=pk))
    return redirect("collection:folders")


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    for job in Job.objects.filter(kind="scan", subject=pk, state__in=Job.ACTIVE):
        stop_job(job=job)
    return redirect("collection:folders")


@require_POST
def believe(request: HttpRequest, pk: int) -> HttpResponse:
    services.believe_loss(folder=get_object_or_404(SourceFolder, pk=pk))
    return redirect("collection:folders")


@require_safe
def missing(request: HttpRequest, pk: int) -> HttpResponse:
    """What would go with the missing tracks of a folder."""
    folder = get_object_or_404(SourceFolder, pk=pk)
    ids = services.missing_ids(folder=folder)
    said = [text for holder in holders_of("track") if (text := holder.said(ids))]
    return render(request, "collection/missing.html", {"folder": folder, "count": len(ids), "said": said})


@require_POST
def remove_missing(request: HttpRequest, pk: int) -> HttpResponse:
    removed = services.remove_missing(folder=get_object_or_404(SourceFolder, pk=pk))
    messages.success(request, f"{counted(removed, 'missing track')} removed from the collection.")
    return redirect("collection:folders")


@require_POST
def drop(request: HttpRequest) -> HttpResponse:
    files = request.FILES.getlist("files")
    if not files:
        messages.error(request, "No files came with that. Drop sound files on the page, or choose them.")
        return redirect("collection:folders")
    try:
        kept = services.keep_dropped(files=files)
    except RumbrelError as error:
        messages.error(request, str(error))
    else:
        messages.success(request, f"{counted(kept, 'file')} added to {settings.RUMBREL.dropped}.")
    return redirect("collection:folders")
