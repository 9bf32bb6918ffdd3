"""Sticks and cards: what is on them, how their players see them, and what is done with them."""

import hashlib
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.ui.answers import back_to
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import DeliverForm, FormatForm, RealVolumeForm, VolumeForm
from ..models import VolumeRow
from ..volume_rows import volume_view

_PAGE_TRACKS = 100
_MOST_DELIVERIES = 12
_MOST_LOST = 200


def _row(pk: int) -> VolumeRow:
    return get_object_or_404(VolumeRow, pk=pk)


def _context(request: HttpRequest, row: VolumeRow) -> dict[str, Any]:
    jobs = Job.objects.filter(subject=row.pk)
    looking = jobs.filter(kind__in=("look-volume", "check-volume"), state__in=Job.ACTIVE).first()
    checked = jobs.filter(kind="check-volume").exclude(state__in=Job.ACTIVE).first()
    context: dict[str, Any] = {
        "row": row,
        "form": VolumeForm(initial={"name": row.name, "target": row.target_slug}),
        "deliver": DeliverForm(sources=services.sources_offered(), initial={"what": request.GET.get("what", "")}),
        "deliveries": row.deliveries.select_related("job")[:_MOST_DELIVERIES],
        "looking": job_row(looking) if looking else None,
        "only": request.GET.get("only", ""),
        "checked": checked,
    }
    try:
        view = volume_view(row)
    except RumbrelError as error:
        return context | {"trouble": str(error), "is_out": isinstance(error, OutputError)}
    tracks = view.refused if context["only"] == "refused" else view.played
    page = Paginator(tracks, _PAGE_TRACKS).get_page(request.GET.get("page"))
    more = {"view": view, "page": page, "rows": view.rows(list(page)), "has_digests": services.has_digests(row)}
    return context | more


@require_safe
def page(request: HttpRequest, pk: int) -> HttpResponse:
    """The page itself asks for what is new on it to be read."""
    return render(request, "bench/volume.html", _context(request, _row(pk)))


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    form = VolumeForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Give the volume a name of at most 120 characters, and choose a player from the list.")
        return redirect("bench:volume", pk=pk)
    services.change_volume(row=_row(pk), name=form.cleaned_data["name"], target_slug=form.cleaned_data["target"])
    return redirect("bench:volume", pk=pk)


@require_POST
def plug(request: HttpRequest, pk: int) -> HttpResponse:
    """In or out; what stopped when it was taken out goes on when it is back."""
    row = _row(pk)
    try:
        services.plug_volume(row=row, plugged=not row.plugged)
        going_on = services.go_on_delivering(row=row) if row.plugged else []
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:index")
    if going_on:
        messages.success(request, f"{row} is back: {going_on[0]} continues.")
        return redirect("bench:delivery", pk=going_on[0].pk)
    return back_to(request, "bench:index")


@require_POST
def look(request: HttpRequest, pk: int) -> HttpResponse:
    services.start_look(row=_row(pk))
    return redirect("bench:volume", pk=pk)


@require_POST
def check(request: HttpRequest, pk: int) -> HttpResponse:
    services.start_check(row=_row(pk))
    return redirect("bench:volume", pk=pk)


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    form = RealVolumeForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Name the folder where the stick or card is mounted, by its whole path.")
        return redirect("bench:index")
    chosen = form.cleaned_data
    try:
        row = services.add_real_volume(path=chosen["path"], name=chosen["name"], target_slug=chosen["target"])
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:index")
    return redirect("bench:volume", pk=row.pk)


@require_POST
def remove(request: HttpRequest, pk: int) -> HttpResponse:
    row = _row(pk)
    try:
        services.remove_volume(row=row)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:volume", pk=pk)
    messages.success(request, f"{row} is no longer on the bench. Its files stay.")
    return redirect("bench:index")


def _mark(paths: Iterable[Path]) -> str:
    """Stands for a list of files that was shown."""
    return hashlib.sha256("\0".join(sorted(str(path) for path in paths)).encode("utf-8", "surrogateescape")).hexdigest()


@require_safe
def formatting(request: HttpRequest, pk: int) -> HttpResponse:
    """What would be lost, before anything is."""
    row = _row(pk)
    try:
        lost = services.lost_on(row)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:volume", pk=pk)
    initial = {"name": row.name, "file_system": row.file_system, "lost": _mark(lost)}
    context = {
        "row": row, "form": FormatForm(initial=initial), "lost": lost[:_MOST_LOST], "lost_count": len(lost),
    }  # fmt: skip
    return render(request, "bench/format.html", context)


@require_POST
def format_anew(request: HttpRequest, pk: int) -> HttpResponse:
    """Only the very list that was shown is ever lost."""
    row, form = _row(pk), FormatForm(request.POST)
    if not form.is_valid():
        messages.error(
            request, "Choose one of the file systems that are offered, and a name of at most 120 characters."
        )
        return redirect("bench:format", pk=pk)
    chosen = form.cleaned_data
    try:
        lost = services.lost_on(row)
        if chosen["lost"] != _mark(lost):
            raise OutputError("The contents of the volume changed after they were shown. Check the list again.")
        services.format_anew(row=row, file_system=chosen["file_system"], name=chosen["name"], lost=lost)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:volume", pk=pk)
    messages.success(request, f"Formatted; {counted(len(lost), 'file')} that lay on it are gone.")
    return redirect("bench:volume", pk=pk)
