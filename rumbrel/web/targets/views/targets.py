"""The catalogue of targets, a target's own page, and the user's own targets."""

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError, TargetError
from rumbrel.core.targets import Target, all_targets, listed_target
from rumbrel.core.targets.catalogue import own_targets
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.ui.answers import undo
from rumbrel.web.ui.ranges import ranged_answer

from .. import services
from ..forms import OwnTargetForm, SampleForm
from ..queries import all_in_kinds, pulled_in_kinds
from ..rows import hour_rows, rule_lines, standing_row, target_row
from ..standing import standings

MOST_TO_HEAR = 40


def _target(slug: str) -> Target:
    try:
        return listed_target(slug)
    except TargetError as error:
        raise Http404(str(error)) from error


def _own_slugs() -> set[str]:
    return {target.slug for target in own_targets().targets}


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    context = {
        "rows": [target_row(target) for target in all_targets()],
        "own": _own_slugs(),
        "troubles": own_targets().troubles,
    }
    return render(request, "targets/targets.html", context)


@require_safe
def target(request: HttpRequest, slug: str) -> HttpResponse:
    found = _target(slug)
    pulled = Track.objects.filter(pk__in=pulled_ids()[:MOST_TO_HEAR], usable=True, missing_since=None)
    context = {
        "target": found,
        "row": target_row(found),
        "rules": rule_lines(found),
        "hours": hour_rows(found),
        "is_own": slug in _own_slugs(),
        "to_hear": list(pulled) or list(Track.objects.filter(usable=True, missing_since=None)[:MOST_TO_HEAR]),
    }
    return render(request, "targets/target.html", context)


@require_safe
def stands(request: HttpRequest, slug: str) -> HttpResponse:
    """How my tracks stand to a target: a part of its page that is asked for by itself, since it reads them all."""
    found = _target(slug)
    rows = [
        (name, query, standing_row(standings(kinds, [found], marks=0)[0]))
        for name, query, kinds in (("Pull list", "", pulled_in_kinds()), ("Collection", "all", all_in_kinds()))
        if len(kinds.order)
    ]
    return render(request, "targets/_stands.html", {"target": found, "rows": rows})


@require_safe
def sample(request: HttpRequest, slug: str) -> HttpResponse:
    """Make a sample, and show how it can be heard beside its source."""
    found, form = _target(slug), SampleForm(request.GET)
    context: dict[str, Any] = {"target": found}
    if not form.is_valid():
        context["error"] = "Choose a track, and a place in it in seconds."
        return render(request, "targets/_sample.html", context)
    track, start = form.cleaned_data["track"], form.cleaned_data["start"] or 0.0
    try:
        made = services.make_sample(track=track, target=found, start_seconds=start)
        context |= {"sample": made, "track": track, "start": start, "name": made.path.name, "end": start + made.seconds}
    except RumbrelError as error:
        context["error"] = str(error)
    return render(request, "targets/_sample.html", context)


@require_safe
def sample_sound(request: HttpRequest, slug: str, name: str) -> HttpResponseBase:
    try:
        heard = services.hear_sample(slug=slug, name=name)
        return ranged_answer(
            request, heard.read, total_bytes=heard.total_bytes, media_type=heard.media_type, tag=heard.tag
        )
    except RumbrelError as error:
        return HttpResponse(str(error), status=409, content_type="text/plain; charset=utf-8")


@require_safe
def text(request: HttpRequest, slug: str) -> HttpResponse:
    """A target's description, to be kept or edited elsewhere."""
    answer = HttpResponse(services.target_text(_target(slug).slug), content_type="application/toml; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{slug}.toml"'
    return answer


@require_safe
def edit(request: HttpRequest, slug: str) -> HttpResponse:
    """An own target to be edited, or a copy of one of the catalogue."""
    found, is_own = _target(slug), slug in _own_slugs()
    written = services.target_text(slug)
    if not is_own:
        written = written.replace(f'name = "{found.name}"', f'name = "{found.name}, own"', 1)
    context = {"target": found, "is_own": is_own, "form": OwnTargetForm({"text": written})}
    return render(request, "targets/edit.html", context)


@require_POST
def keep(request: HttpRequest, slug: str) -> HttpResponse:
    """Keep an edited target. What cannot be is said, and nothing of what was typed is lost."""
    found, form = _target(slug), OwnTargetForm(request.POST, request.FILES)
    is_own = slug in _own_slugs()
    try:
        kept = services.keep_target(text=form.description(), slug=slug if is_own else "")
    except RumbrelError as error:
        context = {"target": found, "is_own": is_own, "form": form, "error": str(error)}
        return render(request, "targets/edit.html", context)
    messages.success(request, f"{kept.name} is kept. Every screen and command knows it as {kept.slug}.")
    return redirect("targets:target", kept.slug)


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    """A target from a file."""
    try:
        kept = services.keep_target(text=OwnTargetForm(request.POST, request.FILES).description())
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("targets:index")
    messages.success(request, f"{kept.name} is kept. Every screen and command knows it as {kept.slug}.")
    return redirect("targets:target", kept.slug)


@require_POST
def remove(request: HttpRequest, slug: str) -> HttpResponse:
    try:
        services.remove_target(slug=slug)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("targets:index")
    messages.success(request, "The target is removed.", extra_tags=undo(reverse("targets:put-back", args=[slug])))
    return redirect("targets:index")


@require_POST
def put_back(request: HttpRequest, slug: str) -> HttpResponse:
    try:
        services.put_back_target(slug=slug)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("targets:index")
    return redirect("targets:target", slug)
