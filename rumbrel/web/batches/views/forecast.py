"""The forecast, what is chosen for its lines, and the start of a batch."""

from collections import Counter
from pathlib import Path
from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError, TargetError
from rumbrel.core.forecast import Action, Step
from rumbrel.core.places.browsing import list_folder
from rumbrel.core.targets import all_targets
from rumbrel.core.targets.pattern import empty_fields
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import facts_by_id, pull_list_of, pulled_ids
from rumbrel.web.collection.services import allowed_roots, take_off_tracks
from rumbrel.web.ui.seen import changed_since_shown, mark_of
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import FolderChoiceForm, ForecastForm, MarkedForm, ShownForm, TrackChoiceForm
from ..rows import forecast_row, shared_reason, warning_rows
from ..services.forecast_tracks import PulledForecast
from ..wishes import BatchWish, DestinationKind

PAGE_LINES = 100
MOST_LINES = 20_000
"""A longer forecast is made by a job, and shown on the page of its batch, which is held until it is started."""


@require_safe
def forecast(request: HttpRequest) -> HttpResponse:
    form = ForecastForm(request.GET)
    try:
        wish = form.wish(services.choices_of(pulled_ids()))
    except TargetError as error:
        messages.error(request, str(error))
        return redirect("targets:index")
    if _is_long(wish):
        return render(request, "batches/forecast.html", {"form": form, "wish": wish, **_long(wish)})
    try:
        found = services.forecast_tracks(wish=wish)
    except RumbrelError as error:
        return render(request, "batches/forecast.html", {"form": form, "wish": wish, "trouble": str(error)})
    return render(request, "batches/forecast.html", {"form": form, **_shown(request, form, found)})


def _is_long(wish: BatchWish) -> bool:
    return pull_list_of().count * len(wish.targets) > MOST_LINES


def _long(wish: BatchWish) -> dict[str, Any]:
    pulled = pull_list_of()
    return {"total": pulled.count, "long_lines": pulled.count * len(wish.targets), "seen": pulled.mark}


def _steps_shown(found: PulledForecast, shown: ShownForm) -> list[Step]:
    what, code = shown.chosen()
    return [
        step
        for step in found.steps
        if (not what or step.action == what) and (not code or any(w.code == code for w in step.warnings))
    ]


def _shown(request: HttpRequest, form: ForecastForm, found: PulledForecast) -> dict[str, Any]:
    wish, shown = found.wish, ShownForm(request.GET)
    steps = _steps_shown(found, shown)
    levels = [(target, wish.level.rule_for(target)) for target in wish.all_targets]
    page = Paginator(steps, PAGE_LINES).get_page(request.GET.get("page"))
    rows = [forecast_row(step, found.titles.get(step.source_id, ""), wish) for step in page]
    counts = Counter(step.action for step in found.steps)
    what, code = shown.chosen()
    return {
        "plan": found,
        "page": page,
        "rows": rows,
        "total": len(found.titles),
        "counts": {str(action): counts[action] for action in Action},
        "accepts": all(target.verb == "accepts" for target in wish.targets),
        "warned": warning_rows(found.steps),
        "what": what,
        "code": code,
        "wish": wish,
        "levels": [(target, rule) for target, rule in levels if rule.mode != "none"],
        "sets_level": all(rule.mode in ("track", "album") for _, rule in levels),
        "ceiling_dbtp": levels[0][1].ceiling_dbtp,
        "without_values": _without_values(found),
        "form_targets": [(target.slug, target.name) for target in all_targets()],
        "several": len(wish.all_targets) > 1,
        "left_out_lines": [(pk, found.titles.get(pk, ""), name) for pk, name in found.left_out_lines[:40]],
        "chosen": len([choice for choice in wish.choices if not choice.left_out]),
        "shared": shared_reason([step.reason for step in found.working]),
        "largest": max(
            [1, *(max(step.source.size_bytes, step.after.size_bytes if step.after else 0) for step in page)]
        ),
        "expected_seconds": services.expected_seconds(found.working),
        "inside": _source_folder_inside(found),
        "can_start": bool(found.working),
        "seen": _seen(found),
        "hear_first": next((step.source_id for step in found.working), 0),
    }


def _seen(found: PulledForecast) -> str:
    """What was foreseen of every source, so that a start from this page does that and nothing else."""
    lines = ((s.source.key, s.source.size_bytes, s.source.modified_ns, str(s.action), s.output) for s in found.steps)
    return mark_of(len(found.titles), *lines)


def _without_values(found: PulledForecast) -> str:
    """Fields of the naming pattern that no track has a value for, as they stand in it."""
    patterns = {found.wish.pattern or target.names.pattern for target in found.wish.all_targets}
    fields = [step.source.tags.fields for step in found.steps]
    empty = [
        name for pattern in sorted(patterns) for name in (empty_fields(pattern, fields) if pattern and fields else ())
    ]
    return ", ".join(f"{{{name}}}" for name in dict.fromkeys(empty))


def _source_folder_inside(found: PulledForecast) -> SourceFolder | None:
    """The source folder in which results would lie, and appear as tracks at its next scan."""
    kind, folder = found.wish.destination.kind, found.wish.destination.folder
    if kind is not DestinationKind.FOLDER:
        return None
    return next((each for each in SourceFolder.objects.all() if f"{folder}/".startswith(f"{each.path}/")), None)


def _back(form: ForecastForm, request: HttpRequest) -> HttpResponse:
    what, code = ShownForm(request.POST).chosen()
    more = (f"&what={what}" if what else "") + (f"&code={code}" if code else "")
    return redirect(f"{reverse('batches:forecast')}?{form.query}{more}")


@require_safe
def folder(request: HttpRequest) -> HttpResponse:
    """Folders to choose a destination from; the nearest one that is there, of a path that is not."""
    form = FolderChoiceForm(request.GET)
    text = form.cleaned_data["path"] if form.is_valid() else ""
    context: dict[str, Any] = {"roots": [root for root in allowed_roots() if root.is_dir()]}
    if text:
        try:
            path = Path(text)
            there = next((each for each in (path, *path.parents) if each.is_dir()), path)
            context["listed"] = list_folder(there, roots=allowed_roots(), suffixes=())
        except (RumbrelError, OSError) as error:
            context["trouble"] = str(error)
    return render(request, "batches/_folder.html", context)


@require_POST
def mark(request: HttpRequest) -> HttpResponse:
    """Do something with the marked lines, or with all lines that are shown where none is marked."""
    ids = pulled_ids()
    form, marked = ForecastForm(request.POST), MarkedForm(request.POST, ids=ids)
    if not marked.is_valid():
        messages.error(request, "Select lines of the forecast, then choose what to do with them.")
        return _back(form, request)
    lines, act = marked.lines(), marked.cleaned_data["act"]
    try:
        wish = form.wish(services.choices_of(ids))
        if not lines and act in (MarkedForm.LEAVE, MarkedForm.OFF):
            what, code = ShownForm(request.POST).chosen()
            if what or code:
                shown = _steps_shown(services.forecast_tracks(wish=wish), ShownForm(request.POST))
                lines = [(step.source_id, step.target.slug) for step in shown]
        if not lines and act == MarkedForm.TAKE:
            lines = [(choice.track_id, "") for choice in services.choices_of(ids) if choice.left_out or choice.not_for]
        text = _marked(act, lines, marked.cleaned_data["other"], [target.slug for target in wish.targets])
    except RumbrelError as error:
        messages.error(request, str(error))
        return _back(form, request)
    messages.success(request, text)
    return _back(form, request)


def _marked(act: str, lines: list[tuple[int, str]], other: str, slugs: list[str]) -> str:
    ids = list(dict.fromkeys(pk for pk, _ in lines))
    if act == MarkedForm.FORGET:
        return f"{counted(services.forget_choices(), 'track')} back to the batch's settings."
    if not ids:
        raise TargetError("Select lines of the forecast first.")
    tracks = counted(len(ids), "track")
    if act == MarkedForm.OFF:
        return f"{counted(take_off_tracks(ids=ids), 'track')} taken off the pull list."
    if act == MarkedForm.FOR:
        services.choose(ids=ids, target_slug=other)
        return f"{tracks}: another target chosen." if other else f"{tracks}: back to the batch's targets."
    if act == MarkedForm.LEAVE:
        services.leave_out_lines(lines, slugs=slugs)
        what = tracks if len(slugs) == 1 else f"{counted(len(lines), 'line')} of {tracks}"
        return f"{what} excluded from the batch; still on the pull list."
    services.choose(ids=ids, left_out=False, not_for=())
    return f"{tracks} included in the batch again."


@require_safe
def track(request: HttpRequest, pk: int) -> HttpResponse:
    """What one track is to have otherwise than its batch."""
    found, form = get_object_or_404(Track, pk=pk), ForecastForm(request.GET)
    return _track_page(request, found, form, _track_form(found, None))


def _track_form(found: Track, data: Any, files: Any = None) -> TrackChoiceForm:
    facts = facts_by_id([found.pk]).get(found.pk)
    own = facts.tags.as_text() if facts else {}
    initial: dict[str, Any] = {f"tag_{name}": own.get(name, "") for name in TrackChoiceForm.LABELS}
    for choice in services.choices_of([found.pk]):
        initial |= {
            "left_out": choice.left_out,
            "target_slug": choice.target_slug,
            "name": choice.name,
            "bare": choice.bare,
        }
        initial |= {f"tag_{name}": value for name, value in choice.fields}
    return TrackChoiceForm(data, files, initial=initial, tags=own)


def _track_page(request: HttpRequest, found: Track, form: ForecastForm, own: TrackChoiceForm) -> HttpResponse:
    facts = facts_by_id([found.pk]).get(found.pk)
    has_cover = any(choice.cover for choice in services.choices_of([found.pk]))
    context = {"track": found, "form": form, "own": own, "facts": facts, "has_cover": has_cover}
    return render(request, "batches/choice.html", context)


@require_POST
def track_chosen(request: HttpRequest, pk: int) -> HttpResponse:
    found, form = get_object_or_404(Track, pk=pk), ForecastForm(request.POST)
    own = _track_form(found, request.POST, request.FILES)
    if not own.is_valid():
        return _track_page(request, found, form, own)
    services.choose(
        ids=[pk], left_out=own.cleaned_data["left_out"], target_slug=own.cleaned_data["target_slug"],
        name=own.cleaned_data["name"], fields=own.changed_tags(), bare=own.cleaned_data["bare"],
        cover=own.cover_chosen(),
    )  # fmt: skip
    return _back(form, request)


@require_POST
def start(request: HttpRequest) -> HttpResponse:
    form, ids = ForecastForm(request.POST), pulled_ids()
    try:
        wish, sent = form.wish(services.choices_of(ids)), request.POST.get("seen")
        held = _is_long(wish)
        if sent is not None:
            now = pull_list_of().mark if held else _seen(services.forecast_tracks(wish=wish))
            if told := changed_since_shown(sent, now, what="track"):
                messages.error(request, told)
                return redirect(f"{reverse('batches:forecast')}?{form.query}")
        batch = services.start_batch(track_ids=ids, wish=wish, held=held)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect(f"{reverse('batches:forecast')}?{form.query}")
    return redirect("batches:batch", pk=batch.pk)
