"""One track: a page of its own, the side panel, and its mark on the pull list."""

from typing import Any

from django.contrib import messages
from django.db.models import Exists, OuterRef
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe
from django_htmx.http import trigger_client_event

from rumbrel.core.targets import all_targets, fit_to
from rumbrel.web.ui.answers import back_to, refusals_told
from rumbrel.web.ui.asking import who_asks
from rumbrel.web.ui.removal import holders_of
from rumbrel.web.ui.traces import traces_of
from rumbrel.web.ui.words import counted

from .. import services
from ..columns import COLUMNS
from ..facts import is_of
from ..forms import CutForm, SentenceForm, SoundForm
from ..models import DeepLook, Pull, Track
from ..pictures import picture_path
from ..queries import facts_by_id, fixity_of, totals_of
from ..rows import edge_words, fit_groups, look_rows, tag_rows, trace_seconds
from ..sentence import Sentence

MOST_CUTS = 200


def _track(pk: int) -> Track:
    pulled = Pull.objects.filter(pull_list__owner=who_asks(), cleared_at=None, track=OuterRef("pk"))
    return get_object_or_404(Track.objects.select_related("folder", "cut_of").annotate(pulled=Exists(pulled)), pk=pk)


def _context(track: Track) -> dict[str, Any]:
    pk = track.pk
    facts = facts_by_id([pk]).get(pk)
    fits = [(target, fit_to(facts, target)) for target in all_targets()] if facts and not track.missing_since else []
    fixity, events = fixity_of(pk)
    return {
        "fixity": fixity,
        "events": events,
        "facts": facts,
        "fits": fit_groups(fits),
        "tags": tag_rows(facts) if facts else (),
        "traces": [trace for source in traces_of("track") if (trace := source(pk)).rows],
        **look_context(track),
    }


def look_context(track: Track) -> dict[str, Any]:
    """What a look at the file as it is now has told, or whether one is under way or can be begun."""
    look = DeepLook.objects.filter(track=track).first()
    if look and not is_of(look, track):
        look = None
    has_picture = look is not None and not look.error and picture_path(track.pk).exists()
    return {
        "track": track,
        "look": look,
        "look_rows": look_rows(look, track) if look else (),
        "edge_words": edge_words(look) if look else "",
        "trace_seconds": trace_seconds(look) if look else 0.0,
        "look_job": services.look_under_way(track.pk),
        "has_picture": has_picture,
        "can_look": track.usable and not track.missing_since and not has_picture,
    }


@require_safe
def track(request: HttpRequest, pk: int) -> HttpResponse:
    track = _track(pk)
    context = _context(track)
    context["cuts"] = list(track.cuts.order_by("pk")[:MOST_CUTS])
    # On its own page alone: it reads what lies beside the file.
    facts = context["facts"]
    context["cuttings"] = services.cuttings_for(track, facts) if facts else []
    context["described"] = services.described_for(track, facts) if facts else []
    return render(request, "collection/track.html", context)


@require_safe
def panel(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "collection/_track.html", _context(_track(pk)))


@require_POST
def cut(request: HttpRequest, pk: int) -> HttpResponse:
    """Add the parts of a file as tracks."""
    form = CutForm(request.POST)
    with refusals_told(request):
        key = form.cleaned_data["key"] if form.is_valid() else ""
        added = counted(len(services.cut_track(track=get_object_or_404(Track, pk=pk), key=key)), "track")
        messages.success(request, f"{added} of this file added to the collection. The file stays as it is.")
    return redirect("collection:track", pk)


@require_safe
def join(request: HttpRequest, pk: int) -> HttpResponse:
    """What would go with the parts of a file."""
    track = _track(pk)
    ids = list(track.cuts.values_list("pk", flat=True))
    said = [text for holder in holders_of("track") if (text := holder.said(ids))]
    return render(request, "collection/join.html", {"track": track, "count": len(ids), "said": said})


@require_POST
def joined(request: HttpRequest, pk: int) -> HttpResponse:
    removed = counted(services.join_track(track=get_object_or_404(Track, pk=pk)), "track")
    messages.success(request, f"{removed} of this file removed from the collection. The file stays.")
    return redirect("collection:track", pk)


@require_POST
def choose_sound(request: HttpRequest, pk: int) -> HttpResponse:
    """Of several sounds of a film, the one that the track is about."""
    form = SoundForm(request.POST)
    with refusals_told(request):
        number = form.cleaned_data["number"] if form.is_valid() else 0
        name = services.choose_sound(track=get_object_or_404(Track, pk=pk), number=number)
        messages.success(request, f"The track is the sound {name} from now on.")
    return back_to(request, "collection:track", pk)


@require_POST
def pull(request: HttpRequest, pk: int) -> HttpResponse:
    services.toggle_pull(track=get_object_or_404(Track, pk=pk))
    if not request.htmx:  # type: ignore[attr-defined]
        return back_to(request, "collection:track", pk)
    columns = [COLUMNS[name] for name in SentenceForm(request.POST).columns()]
    context = {"track": _track(pk), "totals": totals_of(Sentence()), "columns": columns}
    return trigger_client_event(render(request, "collection/_row.html", context), "pulled")
