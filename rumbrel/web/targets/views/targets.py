"""The catalogue of targets, a target's own page, and the user's own targets."""

from dataclasses import replace
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError, TargetError
from rumbrel.core.targets import Target, all_targets, listed_target
from rumbrel.core.targets.catalogue import own_targets
from rumbrel.core.targets.ways import made_otherwise
from rumbrel.core.targets.writing import target_toml
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.ui.answers import undo
from rumbrel.web.ui.ranges import ranged_answer
from rumbrel.web.ui.seen import SEEN, mark_of, refuse_unseen

from .. import services
from ..forms import OwnTargetForm, SampleForm
from ..models import SpecCheck
from ..own_form import AcceptedForm, TargetForm, accepted_forms
from ..queries import all_in_kinds, named_tracks, pulled_in_kinds
from ..rows import accept_grid, hour_rows, made_sentence, rule_lines, standing_row, target_row
from ..standing import standings

MOST_TO_HEAR = 40
MOST_NAMED = 4
MOST_CHECKS = 5


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
    context = _edited(found) | {
        "grid": accept_grid(found),
        "makes": made_sentence(found),
        "rules": rule_lines(found),
        "hours": hour_rows(found),
        "versions": services.target_versions(slug)[:MOST_CHECKS],
        "checks": SpecCheck.objects.filter(target_slug=slug).defer("found")[:MOST_CHECKS],
        "to_hear": list(pulled) or list(Track.objects.filter(usable=True, missing_since=None)[:MOST_TO_HEAR]),
    }
    return render(request, "targets/target.html", context)


@require_safe
def new(request: HttpRequest) -> HttpResponse:
    """The form of a copy."""
    return edit(request, _target(request.GET["of"]).slug if "of" in request.GET else all_targets()[0].slug)


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


def _copied(found: Target, request: HttpRequest) -> Target:
    """The target to be edited: one's own as it is or was, one of the catalogue under another name; made otherwise
    where a way of doing so is named. Raises TargetError for a way or a version that there is not."""
    number = request.GET.get("version", "")
    if number.isascii() and number.isdecimal() and len(number) < 6:
        return services.version_of(found.slug, int(number))
    if found.slug not in _own_slugs():
        found = replace(found, name=f"{found.name}, own")
    return made_otherwise(found, request.GET.get("way", "")[:80])


@require_safe
def edit(request: HttpRequest, slug: str) -> HttpResponse:
    """An own target to be edited, or a copy of one of the catalogue."""
    found = _target(slug)
    try:
        wanted = _copied(found, request)
    except TargetError as error:
        messages.error(request, str(error))
        return redirect("targets:target", slug)
    if request.GET.get("as") == "text":
        return _text_page(request, found, OwnTargetForm({"text": target_toml(wanted)}))
    form = TargetForm(initial=TargetForm.values_of(wanted))
    return _form_page(request, found, form, accepted_forms(rows=wanted.accepts))


def _edited(found: Target) -> dict[str, Any]:
    """What a page on which a target is edited knows of it as it is kept now."""
    is_own = found.slug in _own_slugs()
    return {"target": found, "is_own": is_own, "seen": _mark(found.slug) if is_own else ""}


def _mark(slug: str) -> str:
    return mark_of(1, services.target_text(slug))


def _text_page(request: HttpRequest, found: Target, form: OwnTargetForm, error: str = "") -> HttpResponse:
    return render(request, "targets/edit_text.html", _edited(found) | {"form": form, "error": error})


def _form_page(
    request: HttpRequest, found: Target, form: TargetForm, accepted: list[AcceptedForm], template: str = "edit.html"
) -> HttpResponse:
    return render(request, f"targets/{template}", _edited(found) | {"form": form, "accepted": accepted})


@require_POST
def offered(request: HttpRequest, slug: str) -> HttpResponse:
    """The form again, with what another encoding has; nothing is judged yet."""
    sent = {name: values[-1] if len(values) == 1 else values for name, values in request.POST.lists()}
    form = TargetForm(initial=sent)
    for name in ("sample_rates", "bit_depths", "channels", "keep"):
        form.initial[name] = request.POST.getlist(name)
    return _form_page(request, _target(slug), form, accepted_forms(request.POST), "_form.html")


@require_safe
def names(request: HttpRequest, slug: str) -> HttpResponse:
    """What results would be called, of tracks at hand."""
    found = _target(slug)
    ids = pulled_ids()[:MOST_NAMED] or list(Track.objects.values_list("pk", flat=True)[:MOST_NAMED])
    context: dict[str, Any] = {}
    try:
        context["names"] = named_tracks(
            found, ids, pattern=request.GET.get("pattern", ""), file_system=request.GET.get("file_system", ""),
            longest=request.GET.get("longest", ""),
        )  # fmt: skip
    except RumbrelError as error:
        context["trouble"] = str(error)
    return render(request, "targets/_names.html", context)


@require_POST
def keep(request: HttpRequest, slug: str) -> HttpResponse:
    """Keep an edited target. What cannot be is said beside its field, and nothing of what was typed is lost: what another
    window kept meanwhile is replaced when that is asked for again, what it removed is kept anew."""
    own_slug = slug if slug in _own_slugs() else ""
    found = _target(slug) if own_slug or not services.target_versions(slug) else services.last_version(slug)
    if "text" in request.POST:
        text_form = OwnTargetForm(request.POST, request.FILES)
        try:
            _refuse_unseen(request, own_slug)
            return _kept(request, services.keep_target(text=text_form.description(), slug=own_slug))
        except RumbrelError as error:
            return _text_page(request, found, text_form, str(error))
    form, accepted = TargetForm(request.POST), accepted_forms(request.POST)
    if all([form.is_valid(), *(each.is_valid() for each in accepted)]):
        try:
            _refuse_unseen(request, own_slug)
            return _kept(request, services.keep_target(text=form.description(accepted), slug=own_slug))
        except RumbrelError as error:
            form.refused(str(error))
    return _form_page(request, found, form, accepted)


def _refuse_unseen(request: HttpRequest, own_slug: str) -> None:
    """Raises TargetError where another window kept the target after the form was opened."""
    sent = request.POST.get(SEEN)
    if own_slug and sent is not None and sent != _mark(own_slug):
        raise TargetError(
            "Nothing was saved: another window saved this target after you opened it. Save again to replace that "
            "version; it stays under Earlier versions."
        )


def _kept(request: HttpRequest, kept: Target) -> HttpResponse:
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
    return _kept(request, kept)


@require_POST
def remove(request: HttpRequest, slug: str) -> HttpResponse:
    try:
        if slug in _own_slugs():
            refuse_unseen(request, _mark(slug), what="target", thing="the target")
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
