"""Writing a disc on the stand-in recorder: the tray, the speed, what happens as it happens, and what came of it."""

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.bench.blanks import SHELF
from rumbrel.core.bench.recorder import step_shares
from rumbrel.core.disc.media import Medium, medium_for
from rumbrel.core.errors import DiscError, RumbrelError
from rumbrel.core.workflows.design_disc import DesignPlan
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.jobs.services import stop_job
from rumbrel.web.ui.answers import refusals_told
from rumbrel.web.ui.seen import refuse_unseen

from .. import services
from ..forms import TrayForm, WriteForm
from ..models import Disc
from ..rows import geometry, is_as_written, remedies_of, stage_rows, write_rows, written_rows, written_to_mm
from .discs import find_disc


def _context(found: Disc) -> dict[str, Any]:
    planned = services.plan_layout(disc=found)
    plan, design = planned.plan, planned.design
    medium = medium_for(design.medium_key)
    audio = isinstance(plan, DesignPlan)
    sectors = plan.layout.total_sectors if isinstance(plan, DesignPlan) else plan.total_sectors
    tray = services.tray_of(found.recorder_key)
    speeds = tray.kind.speeds_for(medium)
    form = WriteForm(
        initial={
            "recorder": found.recorder_key, "speed": design.speed, "copies": 1, "pace": "real" if tray.real_pace else "quick",
        },
        medium_key=medium.key, recorder_key=found.recorder_key,
    )  # fmt: skip
    work = job_row(found.job) if found.job else None
    shares = step_shares(sectors, design.speed, trial=found.trial, paced=tray.real_pace)
    lies = written_mm = None
    if isinstance(plan, DesignPlan) and found.busy:
        lies = geometry(plan.layout, plan.keys)
        written_mm = written_to_mm(plan.layout, work.share or 0.0 if work else 0.0, shares)
    return {
        "disc": found,
        "design": design,
        "plan": plan,
        "is_audio": audio,
        "medium": medium,
        "tray": tray,
        "shelf": TrayForm(initial={"shelf": medium.key}),
        "shelf_count": len(SHELF),
        "form": form,
        "speeds": write_rows(medium, sectors, speeds, design.speed),
        "failed": planned.failed,
        "refused": services.media_check(tray=tray, medium=medium, speed=design.speed),
        "writable": planned.writable,
        "as_written": is_as_written(found, planned),
        "steps": stage_rows(found, sectors, design.speed),
        "tracks": written_rows(found, planned),
        "work": work,
        "geometry": lies,
        "written_mm": written_mm,
        "remedies": remedies_of(found, medium, design.speed),
        "files": services.image_files(found) if found.image_path else [],
        "forms": services.FORMS if audio else (),
        "capacity": medium.capacity_sectors,
        "puts_in": _blank_for(medium, design.speed, tray),
        "shares": shares,
    }


def _blank_for(medium: Medium, speed: int, tray: services.Tray) -> str:
    """The key of a blank on the shelf that goes into an empty tray as the disc is written; "" where there is none that
    could be written so."""
    if tray.blank is not None or tray.writing is not None or speed not in tray.kind.speeds_for(medium):
        return ""
    return next((each.key for each in SHELF if each.blank.medium == medium and each.key == medium.key), "")


@require_safe
def page(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "discs/writing.html", _context(find_disc(pk)))


@require_safe
def stage(request: HttpRequest, pk: int) -> HttpResponse:
    """What changes while the disc is written."""
    return render(request, "discs/_stage.html", _context(find_disc(pk)))


@require_POST
def choose(request: HttpRequest, pk: int) -> HttpResponse:
    """Another recorder, or another speed."""
    found = find_disc(pk)
    recorder = request.POST.get("recorder", found.recorder_key)
    try:
        services.choose_recorder(disc_id=pk, recorder=recorder[:20])
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("discs:writing", pk=pk)
    form = WriteForm(request.POST, medium_key=found.design.medium_key, recorder_key=recorder)
    pace = form.cleaned_data.get("pace") if form.is_valid() else ""
    if pace:
        with refusals_told(request):
            services.choose_pace(recorder=recorder, real=pace == "real")
    speed = form.cleaned_data.get("speed") if form.is_valid() else None
    if speed is not None and speed != found.design.speed:
        try:
            services.choose_speed(disc_id=pk, speed=speed)
        except RumbrelError as error:
            messages.error(request, str(error))
    return redirect("discs:writing", pk=pk)


def _start(request: HttpRequest, pk: int, *, trial: bool) -> HttpResponse:
    found = find_disc(pk)
    form = WriteForm(request.POST, medium_key=found.design.medium_key, recorder_key=found.recorder_key)
    copies = form.cleaned_data.get("copies") if form.is_valid() else None
    if not trial and "copies" in form.errors:
        messages.error(request, "From 1 to 99 copies can be written.")
        return redirect("discs:writing", pk=pk)
    with refusals_told(request):
        refuse_unseen(request, found.mark, what="track", thing="the disc")
        if request.POST.get("blank") and services.tray_of(found.recorder_key).blank is None:
            services.put_in(recorder=found.recorder_key, shelf_key=request.POST["blank"][:20])
        services.start_write(disc=found, trial=trial, copies=copies or found.copies_left or 1)
    return redirect("discs:writing", pk=pk)


@require_POST
def write(request: HttpRequest, pk: int) -> HttpResponse:
    return _start(request, pk, trial=False)


@require_POST
def test(request: HttpRequest, pk: int) -> HttpResponse:
    return _start(request, pk, trial=True)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    found = find_disc(pk)
    if found.job:
        stop_job(job=found.job)
    return redirect("discs:writing", pk=pk)


@require_POST
def tray(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Put a disc in, take it out, erase it, or open the tray while it writes."""
    found = find_disc(pk)
    form = TrayForm(request.POST)
    acts = {
        "put-in": lambda: services.put_in(recorder=found.recorder_key, shelf_key=_shelf(form)),
        "take-out": lambda: services.take_out(recorder=found.recorder_key),
        "erase": lambda: services.erase_disc(recorder=found.recorder_key),
        "open": lambda: services.ask_to_open(recorder=found.recorder_key),
    }
    if name not in acts:
        raise Http404("A tray has no such action.")
    with refusals_told(request):
        acts[name]()
    return redirect("discs:writing", pk=pk)


def _shelf(form: TrayForm) -> str:
    """Raises DiscError for a disc there is not."""
    if not form.is_valid():
        raise DiscError("There is no such disc on the shelf. Choose one of those that are offered.")
    return str(form.cleaned_data["shelf"])
