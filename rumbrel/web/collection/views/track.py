"""One track: a page of its own, the side panel, and its mark on the pull list."""

from typing import Any

from django.db.models import Exists, OuterRef
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST, require_safe
from django_htmx.http import trigger_client_event

from rumbrel.core.targets import all_targets, fit_to

from .. import services
from ..models import Pull, Track
from ..queries import Sentence, facts_by_id, totals_of
from ..rows import fit_groups, tag_rows


def _track(pk: int) -> Track:
    pulled = Pull.objects.filter(pull_list__owner="", cleared_at=None, track=OuterRef("pk"))
    return get_object_or_404(Track.objects.select_related("folder").annotate(pulled=Exists(pulled)), pk=pk)


def _context(pk: int) -> dict[str, Any]:
    track = _track(pk)
    facts = facts_by_id([pk]).get(pk)
    fits = [(target, fit_to(facts, target)) for target in all_targets()] if facts and not track.missing_since else []
    return {"track": track, "facts": facts, "fits": fit_groups(fits), "tags": tag_rows(facts) if facts else ()}


@require_safe
def track(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "collection/track.html", _context(pk))


@require_safe
def panel(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "collection/_track.html", _context(pk))


@require_POST
def pull(request: HttpRequest, pk: int) -> HttpResponse:
    services.toggle_pull(track=get_object_or_404(Track, pk=pk))
    context = {"track": _track(pk), "totals": totals_of(Sentence())}
    return trigger_client_event(render(request, "collection/_row.html", context), "pulled")
