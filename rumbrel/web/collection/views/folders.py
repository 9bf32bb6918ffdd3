"""Source folders and dropped files."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.places.browsing import count_files, list_folder
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import stop_job
from rumbrel.web.ui.removal import holders_of
from rumbrel.web.ui.seen import SEEN, SeenError, mark_of, refuse_unseen
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import BrowseForm, DropForm, DroppedFileForm, FolderForm, NameForm, WatchForm
from ..models import SourceFolder
from ..queries import MOST_SUBFOLDERS, folder_rows, subfolder_rows

_COUNTING_SECONDS = 1.5


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


@require_safe
def subfolders(request: HttpRequest, pk: int) -> HttpResponse:
    """What lies in a source folder, or in a folder of it, as rows below its own."""
    folder, below = get_object_or_404(SourceFolder, pk=pk), request.GET.get("below", "")[:4_096].strip("/")
    rows = subfolder_rows(folder_id=folder.pk, below=below)
    context = {"folder": folder, "below": below, "subfolders": rows, "full": len(rows) == MOST_SUBFOLDERS}
    return render(request, "collection/_subfolders.html", context)


@require_safe
def browse(request: HttpRequest) -> HttpResponse:
    """A folder's folders, to choose one from; the allowed ones where none is named."""
    form = BrowseForm(request.GET)
    text = form.cleaned_data["path"] if form.is_valid() else ""
    roots = services.allowed_roots()
    context: dict[str, Any] = {"roots": roots, "known": set(SourceFolder.objects.values_list("path", flat=True))}
    if text:
        try:
            context["listed"] = list_folder(Path(text), roots=roots, suffixes=SOUND_SUFFIXES)
        except RumbrelError as error:
            context["trouble"] = str(error)
    return render(request, "collection/_browse.html", context)


@require_safe
def count(request: HttpRequest) -> HttpResponse:
    form = BrowseForm(request.GET)
    try:
        path = Path(form.cleaned_data["path"] if form.is_valid() else "")
        found = count_files(path, roots=services.allowed_roots(), suffixes=SOUND_SUFFIXES, seconds=_COUNTING_SECONDS)
    except (RumbrelError, OSError, ValueError):
        return HttpResponse("–")
    return HttpResponse(f"{found.files:,}" if found.whole else f"more than {found.files:,}")


@require_POST
def rename(request: HttpRequest, pk: int) -> HttpResponse:
    folder, form = get_object_or_404(SourceFolder, pk=pk), NameForm(request.POST)
    if form.is_valid():
        services.rename_folder(folder=folder, label=form.cleaned_data["label"])
    else:
        messages.error(request, "That name is too long. Use at most 120 characters.")
    return redirect("collection:folders")


@require_safe
def remove(request: HttpRequest, pk: int) -> HttpResponse:
    """What would go with a source folder."""
    folder = get_object_or_404(SourceFolder, pk=pk)
    return render(request, "collection/remove_folder.html", _goes(folder, services.folder_track_ids(folder=folder)))


def _goes(folder: SourceFolder, ids: list[int]) -> dict[str, object]:
    """What goes with tracks of a folder, and the mark of that."""
    said = [text for holder in holders_of("track") if (text := holder.said(ids))]
    return {"folder": folder, "count": len(ids), "said": said, "seen": mark_of(len(ids), sorted(ids), said)}


def _refuse_unseen(request: HttpRequest, folder: SourceFolder, ids: list[int]) -> None:
    if SEEN in request.POST:
        refuse_unseen(request, str(_goes(folder, ids)["seen"]), what="track", thing="what goes with them")


@require_POST
def removed(request: HttpRequest, pk: int) -> HttpResponse:
    folder = get_object_or_404(SourceFolder, pk=pk)
    try:
        _refuse_unseen(request, folder, services.folder_track_ids(folder=folder))
        gone = services.start_removal(folder=folder)
    except SeenError as error:
        messages.error(request, str(error))
        return redirect("collection:remove-folder", pk=pk)
    except RumbrelError as error:
        messages.error(request, str(error))
    else:
        _say_removed(request, gone, f"{folder.path} and its {{}} left the collection. The files were not touched.")
    return redirect("collection:folders")


def _say_removed(request: HttpRequest, gone: Job | int, said: str) -> None:
    """said has a place for how many."""
    if isinstance(gone, Job):
        messages.success(request, f"{gone.title}: many tracks, so it runs in the background. See Work.")
    else:
        messages.success(request, said.format(counted(gone, "track")))


@require_POST
def drop_file(request: HttpRequest) -> HttpResponse:
    """One file of a drop, as its bytes come."""
    form = DroppedFileForm(request.GET)
    if not form.is_valid():
        return JsonResponse({"error": "The name is too long, or the size is missing."}, status=400)
    try:
        kept = services.keep_dropped_file(
            name=form.cleaned_data["name"], size_bytes=form.cleaned_data["size"], read=request.read
        )
    except RumbrelError as error:
        return JsonResponse({"error": str(error)}, status=409)
    return JsonResponse({"path": str(kept.path).encode("utf-8", "replace").decode(), "known": kept.known})


@require_POST
def end_drop(request: HttpRequest) -> HttpResponse:
    """All of a drop has come, or what came of it: it is read now."""
    try:
        folder = services.scan_dropped()
    except RumbrelError as error:
        return JsonResponse({"error": str(error)}, status=409)
    scan = Job.objects.filter(kind="scan", subject=folder.pk).first()
    return JsonResponse({"folder": str(settings.RUMBREL.dropped), "job": scan.pk if scan else None})


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
def watch(request: HttpRequest, pk: int) -> HttpResponse:
    """Watch a folder, or no more."""
    folder, form = get_object_or_404(SourceFolder, pk=pk), WatchForm(request.POST)
    watched = form.is_valid() and form.cleaned_data["watched"]
    services.watch_folder(folder=folder, watched=watched)
    text = (
        "is watched: what changes is scanned about a minute after it has come to rest"
        if watched
        else "is no longer watched"
    )
    messages.success(request, f"{folder.name} {text}.")
    return redirect("collection:folders")


@require_POST
def believe(request: HttpRequest, pk: int) -> HttpResponse:
    services.believe_loss(folder=get_object_or_404(SourceFolder, pk=pk))
    return redirect("collection:folders")


@require_safe
def missing(request: HttpRequest, pk: int) -> HttpResponse:
    """What would go with the missing tracks of a folder."""
    folder = get_object_or_404(SourceFolder, pk=pk)
    return render(request, "collection/missing.html", _goes(folder, services.missing_ids(folder=folder)))


@require_POST
def remove_missing(request: HttpRequest, pk: int) -> HttpResponse:
    folder = get_object_or_404(SourceFolder, pk=pk)
    try:
        _refuse_unseen(request, folder, services.missing_ids(folder=folder))
        gone = services.start_removal(folder=folder, missing=True)
    except SeenError as error:
        messages.error(request, str(error))
        return redirect("collection:missing", pk=pk)
    except RumbrelError as error:
        messages.error(request, str(error))
    else:
        _say_removed(request, gone, "{} removed from the collection.")
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
        added = sum(not each.known for each in kept)
        known = f"; {counted(len(kept) - added, 'file')} already there" if added < len(kept) else ""
        messages.success(request, f"{counted(added, 'file')} added to {settings.RUMBREL.dropped}{known}.")
    return redirect("collection:folders")
