"""Discs: the list of them, one laid out, and every change of it."""

from dataclasses import replace
from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.disc.design import DISC_TEXTS, TRACK_TEXTS, TrackDesign
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import format_msf
from rumbrel.core.disc.text_rules import TEXT_RULES
from rumbrel.core.errors import RumbrelError
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.design_data import DataPlan
from rumbrel.core.workflows.design_disc import DesignPlan, Laid
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import pulled_as_shown, pulled_ids
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.queries import listed_ids
from rumbrel.web.playlists.services import make_playlist
from rumbrel.web.ui.seen import refuse_unseen

from .. import services
from ..forms import ACTS, GENRE_CHOICES, FillForm, SentenceForm, TrackForm, disc_texts, gap_text
from ..models import Disc
from ..queries import discs, filled_seconds, siblings_of
from ..rows import (
    KIND_SAID,
    file_rows,
    free_said,
    geometry,
    is_as_written,
    japanese_is_possible,
    offer_rows,
    pack_use,
    remarks_of,
    spellings_of,
    track_rows,
)
from ..services import PlannedDisc
from ..templatetags.disc_ruler import WIDTH

PAGE_DISCS = 100
_MOST_POOLS = 40


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    page = Paginator(discs(), PAGE_DISCS).get_page(request.GET.get("page"))
    filled = filled_seconds(list(page))
    rows = [(disc, filled.get(disc.pk), medium_for(disc.design.medium_key)) for disc in page]
    return render(request, "discs/discs.html", {"page": page, "rows": rows})


@require_POST
def lay_out(request: HttpRequest, pk: int) -> HttpResponse:
    playlist = get_object_or_404(Playlist, pk=pk)
    try:
        refuse_unseen(request, playlist.mark, what="track")
        by_sheet = "sheet" in request.POST
        disc = (services.lay_out_imported if by_sheet else services.lay_out_list)(playlist=playlist)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("playlists:playlist", pk=pk)
    services.start_measuring(disc=disc)
    return redirect("discs:disc", pk=disc.pk)


@require_POST
def from_pulled(request: HttpRequest) -> HttpResponse:
    """The pull list as a playlist, and its disc."""
    try:
        playlist = make_playlist(name="", track_ids=pulled_as_shown(request))
        disc = services.lay_out_list(playlist=playlist)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("collection:index")
    services.start_measuring(disc=disc)
    return redirect("discs:disc", pk=disc.pk)


@require_POST
def lay_out_sheet(request: HttpRequest, pk: int) -> HttpResponse:
    """The disc of a cue sheet beside or inside a file."""
    track = get_object_or_404(Track, pk=pk)
    try:
        disc = services.lay_out_sheet(track=track, key=request.POST.get("key", "")[:400])
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("collection:track", pk=pk)
    services.start_measuring(disc=disc)
    messages.success(
        request, f"Its tracks are in the collection and on the list {disc.playlist}. The file stays as it is."
    )
    return redirect("discs:disc", pk=disc.pk)


def find_disc(pk: int) -> Disc:
    return get_object_or_404(discs(), pk=pk)


def disc_context(found: Disc, planned: PlannedDisc) -> dict[str, Any]:
    """What the disc's page and its fragment show."""
    plan = planned.plan
    text, over = free_said(plan)
    plays, warning = KIND_SAID[planned.design.kind]
    last = found.changes.first()
    context = {
        "disc": found,
        "design": planned.design,
        "plan": plan,
        "form": SentenceForm.of(planned.design),
        "plays": plays,
        "warning": warning,
        "free_text": text,
        "over": over,
        "remarks": remarks_of(plan),
        "passed": [finding for finding in planned.findings if finding.verdict is Verdict.PASSED],
        "offers": offer_rows(found, planned.offers()),
        "undo": last.said if last else "",
        "ahead": services.list_ahead(found),
        "siblings": siblings_of(found),
        "as_written": is_as_written(found, planned),
        "writable": planned.writable,
        "measuring": job_row(found.measuring) if found.measuring and found.measuring.active else None,
        "fill": FillForm(lists=_pools(found)) if not over else None,
    }
    return context | (
        _of_sound(found, planned, plan) if isinstance(plan, DesignPlan) else _of_files(found, planned, plan)
    )


def _pools(found: Disc) -> list[tuple[int, str]]:
    return list(Playlist.objects.exclude(pk=found.playlist_id).values_list("pk", "name")[:_MOST_POOLS])


def _of_sound(found: Disc, planned: PlannedDisc, plan: DesignPlan) -> dict[str, Any]:
    text = plan.text
    shown = {name: getattr(text.disc, name, "") or getattr(text, name, "") for name in DISC_TEXTS}
    rows = track_rows(found, planned, plan)
    return {
        "is_audio": True,
        "rows": rows,
        "layout": plan.layout,
        "pack": pack_use(plan),
        "text_rules": TEXT_RULES,
        "spellings": spellings_of(plan),
        "japanese": japanese_is_possible(plan),
        "genres": GENRE_CHOICES,
        "texts": disc_texts(planned.design, shown),
        "sounds": list({row.track_id: row.title for row in rows}.items()),
        "hidden": str(planned.design.hidden_id or ""),
        "geometry": geometry(plan.layout, plan.keys),
        "keys": plan.keys,
    }


def _of_files(found: Disc, planned: PlannedDisc, plan: DataPlan) -> dict[str, Any]:
    return {
        "is_audio": False,
        "rows": file_rows(found, planned, plan),
        "name_pattern": SentenceForm.of(planned.design)["names"].value() == "own",
        "total_bytes": plan.total_sectors * 2048,
        "medium_bytes": plan.medium.data_bytes,
    }


@require_safe
def disc(request: HttpRequest, pk: int) -> HttpResponse:
    found = find_disc(pk)
    return render(request, "discs/disc.html", disc_context(found, services.plan_layout(disc=found)))


@require_safe
def body(request: HttpRequest, pk: int) -> HttpResponse:
    """The disc as it is by now."""
    found = find_disc(pk)
    return render(request, "discs/_disc.html", disc_context(found, services.plan_layout(disc=found)))


@require_safe
def measuring(request: HttpRequest, pk: int) -> HttpResponse:
    """How far measuring is; once it has ended, the page is told to show what was found."""
    found = find_disc(pk)
    job = job_row(found.measuring) if found.measuring and found.measuring.active else None
    response = render(request, "discs/_measuring.html", {"disc": found, "measuring": job})
    if job is None:
        response["HX-Trigger"] = "measured"
    return response


def _answer(request: HttpRequest, pk: int, *, told: str = "", error: str = "") -> HttpResponse:
    """The disc as htmx asks for it, or its page."""
    if request.headers.get("HX-Request"):
        found = find_disc(pk)
        context = disc_context(found, services.plan_layout(disc=found)) | {"told": told, "refused": error}
        return render(request, "discs/_disc.html", context)
    if error or told:
        (messages.error if error else messages.success)(request, error or told)
    return redirect("discs:disc", pk=pk)


@require_POST
def act(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Any change of the disc, by its form."""
    if name not in ACTS:
        raise Http404("There is no such change of a disc.")
    find_disc(pk)
    form = ACTS[name](request.POST)
    if not form.is_valid():
        return _answer(request, pk, error=form.wrong)
    try:
        changed = services.change_disc(
            disc_id=pk, change=form.change, said=form.said, revision=form.cleaned_data["revision"], name=form.name
        )
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    return _answer(request, pk, told=changed.told)


def _revision(request: HttpRequest) -> int | None:
    text = request.POST.get("revision", "")
    return int(text) if text.isascii() and text.isdecimal() and len(text) < 10 else None


@require_POST
def undo(request: HttpRequest, pk: int) -> HttpResponse:
    find_disc(pk)
    try:
        changed = services.undo_change(disc_id=pk, revision=_revision(request))
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    return _answer(request, pk, told=changed.told)


@require_POST
def follow(request: HttpRequest, pk: int) -> HttpResponse:
    found = find_disc(pk)
    try:
        changed = services.follow_list(disc_id=pk, revision=_revision(request))
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    services.start_measuring(disc=changed.disc)
    return _answer(request, found.pk, told=changed.told)


@require_POST
def measure(request: HttpRequest, pk: int) -> HttpResponse:
    services.start_measuring(disc=find_disc(pk))
    return _answer(request, pk)


@require_POST
def offer(request: HttpRequest, pk: int) -> HttpResponse:
    find_disc(pk)
    try:
        changed = services.take_offer(disc_id=pk, key=request.POST.get("offer", "")[:40], revision=_revision(request))
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    return _answer(request, pk, told=changed.told)


@require_safe
def preview(request: HttpRequest, pk: int) -> HttpResponse:
    """The ruler as an offer would have it, before it is taken."""
    found = find_disc(pk)
    planned = services.plan_layout(disc=found)
    offered = next((each for each in planned.offers() if each.key == request.GET.get("offer")), None)
    if offered is None:
        # It was for the disc as it was before: there is nothing to be shown.
        return HttpResponse(status=204)
    plans = [services.plan_layout(disc=found, design=design).plan for design in offered.designs[:4]]
    width = WIDTH // len(plans)
    more = len(offered.designs) - len(plans)
    (row,) = offer_rows(found, [offered])
    return render(request, "discs/_preview.html", {"plans": plans, "more": more, "width": width, "row": row})


@require_safe
def fill(request: HttpRequest, pk: int) -> HttpResponse:
    """What would fill the rest, from a pool."""
    found = find_disc(pk)
    form = FillForm(request.GET, lists=_pools(found))
    context: dict[str, Any] = {"disc": found, "form": form}
    if not form.is_valid():
        return render(request, "discs/_filling.html", context | {"error": "Choose the pull list or a playlist."})
    pool = form.cleaned_data["pool"]
    ids = pulled_ids() if pool == "pulled" else listed_ids(int(pool))
    try:
        context["filling"] = services.filling_for(disc=found, pool_ids=ids)
    except RumbrelError as error:
        context["error"] = str(error)
    return render(request, "discs/_filling.html", context)


@require_POST
def take_filling(request: HttpRequest, pk: int) -> HttpResponse:
    """Put the tracks that were shown onto the disc."""
    found = find_disc(pk)
    ids = services.listed_filling(request.POST.get("tracks", ""))
    try:
        changed = services.add_tracks(disc_id=pk, track_ids=ids, revision=_revision(request))
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    services.start_measuring(disc=changed.disc)
    return _answer(request, found.pk, told=changed.told)


def _with_flag(row: Laid) -> TrackDesign:
    """The design of a row with the pre-emphasis that its file's tag states."""
    by_tag = row.track is not None and row.track.programme.pre_emphasis
    return replace(row.design, pre_emphasis=row.design.pre_emphasis or by_tag)


@require_safe
def track(request: HttpRequest, pk: int, key: int) -> HttpResponse:
    """All that is said and asked of one track: beside the table, or as a page."""
    found = find_disc(pk)
    planned = services.plan_layout(disc=found)
    row = next((each for each in planned.plan.rows if each.design.key == key), None)
    if row is None or not isinstance(planned.plan, DesignPlan):
        raise Http404("That track is no longer on this disc.")
    laid = next(each for each in planned.plan.rows if each.design.key == key)
    shown = {name: getattr(laid.track.programme, name) if laid.track else "" for name in TRACK_TEXTS}
    shown |= {"title": laid.title, "performer": laid.performer, **laid.design.texts}
    gap = "runs on" if laid.design.runs_on else gap_text(laid.track.gap_sectors if laid.track else 0)
    if laid.track and laid.track.number == 1:
        gap = gap_text(planned.design.first_pause_sectors)
    context = {
        "disc": found, "row": laid, "form": TrackForm.of(_with_flag(laid), shown, gap), "gap": gap, "shown": shown,
        "place": planned.plan.layout.place_of(laid.track) if laid.track else None,
        "at": format_msf(laid.track.start_sector) if laid.track else "", "before": laid.track.number - 1 if laid.track else 0,
        "address": reverse("collection:track", args=[laid.design.source_id]),
    }  # fmt: skip
    template = "discs/_track.html" if request.headers.get("HX-Request") else "discs/track.html"
    return render(request, template, context)
