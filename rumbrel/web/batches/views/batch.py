"""A batch at work, its report, and its results."""

from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.db.models import Count, Max, Sum
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST, require_safe

from rumbrel.web.jobs.rows import job_row
from rumbrel.web.jobs.services import pause_job, put_first, stop_job, unpause_job

from .. import services
from ..forms import DigestDaysForm, query_of
from ..models import Batch, Item, KeptInStep
from ..queries import batches, changed_items, items_of, reasons_of, result_items, verifying
from ..rows import shared_notes, shared_reason
from ..wishes import BatchWish

PAGE_ITEMS = 100
PAGE_BATCHES = 50


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    page = Paginator(batches(), PAGE_BATCHES).get_page(request.GET.get("page"))
    rows = [(batch, job_row(batch.job) if batch.job else None) for batch in page]
    in_step = KeptInStep.objects.select_related("folder")
    largest = max((batch.bytes_in for batch in page), default=0)
    context = {
        "page": page,
        "rows": rows,
        "largest": largest,
        "in_step": in_step,
        "digest_choices": DigestDaysForm.CHOICES,
    }
    return render(request, "batches/batches.html", context)


def _batch(pk: int) -> Batch:
    return get_object_or_404(batches(), pk=pk)


def _afterwards(batch: Batch) -> dict[str, Any]:
    """What the head of an ended batch offers."""
    kept = KeptInStep.objects.filter(batches=batch.pk).exists()
    return {
        "query": query_of(BatchWish.restored(batch.targets, batch.options)),
        "aside": batch.aside.exists(),
        "can_keep": not kept and services.folder_to_keep(batch) is not None,
    }


def _foreseen(batch: Batch) -> dict[str, Any]:
    """What a forecast comes to that was not started."""
    working = batch.items.filter(works=True).aggregate(n=Count("pk"), before=Sum("bytes_in"), after=Sum("bytes_after"))
    return {
        "is_forecast": True, "can_begin": bool(working["n"]), "bytes_before": working["before"] or 0,
        "bytes_after": working["after"] or 0,
    }  # fmt: skip


def _head(batch: Batch) -> dict[str, Any]:
    tries = bool(batch.counts.get(Item.State.FAILED))
    busy = bool(batch.job and batch.job.active)
    again = verifying(batch)
    return {
        **({} if busy or not batch.planned or batch.held else _afterwards(batch)),
        **(_foreseen(batch) if batch.held and batch.planned and not busy else {}),
        "saved_bytes": batch.bytes_in - batch.bytes_out if not busy else 0,
        "added_bytes": batch.bytes_out - batch.bytes_in,
        "batch": batch,
        "work": job_row(batch.job) if batch.job else None,
        "busy": busy,
        "verifying": job_row(again) if again else None,
        "stopping": bool(batch.job and batch.job.active and batch.job.stop_asked),
        "state_word": batch.shown_state,
        "counts": batch.counts_in_order,
        "can_continue": not batch.planned or (bool(batch.counts.get(Item.State.WAITING)) and not batch.held),
        "can_try_again": tries,
        "has_results": bool(batch.counts.get(Item.State.DONE) or batch.counts.get(Item.State.PART)),
    }


@require_safe
def batch(request: HttpRequest, pk: int) -> HttpResponse:
    found = _batch(pk)
    state = request.GET.get("state", "")
    head = _head(found)
    page = Paginator(items_of(found, state=state, worst_first=not head["busy"]), PAGE_ITEMS).get_page(
        request.GET.get("page")
    )
    items = list(page)
    numbers = [item.number for item in items] or [0]
    first, last = min(numbers), max(numbers)
    context = {
        **head,
        "page": page,
        "items": items,
        "state": state,
        "first": first,
        "last": last,
        "cursor": max((item.changed for item in items), default=0),
        "largest": _largest(found),
        "shared": shared_reason(reasons_of(found, first=first, last=last)),
        "notes": () if head["busy"] or head["verifying"] else shared_notes([item.notes for item in items]),
    }
    context["letters"] = {note.text: note.letter for note in context["notes"]}
    return render(request, "batches/batch.html", context)


def _largest(found: Batch) -> int:
    sizes = found.items.aggregate(a=Max("bytes_in"), b=Max("bytes_out"), c=Max("bytes_after"))
    return max(1, *(size or 0 for size in sizes.values()))


@require_POST
def begin(request: HttpRequest, pk: int) -> HttpResponse:
    """Start what its page shows as a forecast."""
    services.begin_batch(batch=_batch(pk))
    return redirect("batches:batch", pk=pk)


@require_safe
def progress(request: HttpRequest, pk: int) -> HttpResponse:
    """The head, and of the lines on the page those that changed since the cursor.

    A page that was opened before the batch was planned has no lines: it is loaded anew once there are some.
    """
    found = _batch(pk)
    since, first, last = (_number(request.GET.get(name)) for name in ("since", "first", "last"))
    state = request.GET.get("state", "")
    if not last and items_of(found, state=state).exists():
        return HttpResponse(headers={"HX-Refresh": "true"})
    items = list(changed_items(found, since, first=first, last=last)[:PAGE_ITEMS])
    context = {
        **_head(found),
        "items": items,
        "state": state,
        "first": first,
        "last": last,
        "cursor": max((item.changed for item in items), default=since),
        "largest": _largest(found),
        "shared": shared_reason(reasons_of(found, first=first, last=last)),
        "letters": {},
        "fragment": True,
    }
    return render(request, "batches/_progress.html", context)


def _number(text: str | None) -> int:
    return int(text) if text and text.isascii() and text.isdecimal() and len(text) < 18 else 0


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    found = _batch(pk)
    if found.job:
        stop_job(job=found.job)
    return redirect("batches:batch", pk=pk)


@require_POST
def pause(request: HttpRequest, pk: int) -> HttpResponse:
    """What is begun is finished, nothing new begins."""
    found = _batch(pk)
    if found.job:
        pause_job(job=found.job)
    return redirect("batches:batch", pk=pk)


@require_POST
def first(request: HttpRequest, pk: int) -> HttpResponse:
    """Let a waiting batch come before the others."""
    found = _batch(pk)
    if found.job and put_first(job=found.job):
        messages.success(request, "This batch is the next.")
    return redirect("batches:batch", pk=pk)


@require_POST
def resume(request: HttpRequest, pk: int) -> HttpResponse:
    found = _batch(pk)
    if not (found.job and unpause_job(job=found.job)):
        services.try_again(batch=found)
    return redirect("batches:batch", pk=pk)


@require_safe
def download(request: HttpRequest, pk: int) -> FileResponse:
    item = get_object_or_404(Item.objects.select_related("batch"), pk=pk)
    path = services.result_file(item.batch, item)
    if path is None:
        raise Http404("The result is no longer there.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=services.shown_name(path.name))


@require_GET
def download_all(request: HttpRequest, pk: int) -> StreamingHttpResponse:
    """Its length is not known beforehand, so that its headers alone cannot be had."""
    found = _batch(pk)
    paths = [path for item in result_items(found) if (path := services.result_file(found, item)) is not None]
    if not paths:
        raise Http404("This batch has no results yet.")
    folder = services.results_folder(found, paths)
    files = [(path, services.shown_name(str(path.relative_to(folder)))) for path in paths]
    answer = services.stream_archive(files=files, digests_name="digests.sha256")
    response = StreamingHttpResponse(answer, content_type="application/zip")
    response["Content-Disposition"] = f'attachment; filename="batch-{found.pk}.zip"'
    return response
