"""What plays where: every target against tracks, or one of them with the reasons, and from each number the tracks."""

from typing import Any

import numpy as np
from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.targets import Target, all_targets, fit_to
from rumbrel.web.collection.forms import SentenceForm
from rumbrel.web.collection.services import pull_tracks, take_off_tracks
from rumbrel.web.ui.answers import back_to, undo
from rumbrel.web.ui.words import FIT_WORDS, counted, fit_word

from ..forms import SHOWN, WhereForm
from ..queries import all_in_kinds, found_in_kinds, pulled_in_kinds, tracks_with_facts
from ..rows import standing_row
from ..standing import Kinds, ReasonGroup, reason_groups, standings

PAGE_TRACKS = 100
MOST_MARKS = 160
MOST_GROUPS = 60


def _kinds(request: HttpRequest, tracks: str) -> Kinds:
    if tracks == SHOWN:
        return found_in_kinds(SentenceForm(request.GET).sentence())
    return all_in_kinds() if tracks else pulled_in_kinds()


@require_safe
def where(request: HttpRequest) -> HttpResponse:
    form = WhereForm(request.GET)
    target, tracks = form.target_chosen(), form.tracks_chosen()
    kinds = _kinds(request, tracks)
    context: dict[str, Any] = {
        "form": form, "chosen": target, "tracks": tracks, "words": list(FIT_WORDS.values()), "count": len(kinds.order),
    }  # fmt: skip
    if target:
        context |= _one(request, form, kinds, target)
    elif len(kinds.order):
        context["rows"] = [standing_row(each) for each in standings(kinds, all_targets(), marks=MOST_MARKS)]
    return render(request, "targets/where.html", context)


def _one(request: HttpRequest, form: WhereForm, kinds: Kinds, target: Target) -> dict[str, Any]:
    groups = reason_groups(kinds, target)
    # Where none is like that any more, all are shown.
    chosen = _chosen(form, groups) or groups
    ids = _ids(chosen) if len(chosen) < len(groups) else kinds.ids
    page = Paginator(range(len(ids)), PAGE_TRACKS).get_page(request.GET.get("page"))
    start = page.start_index() - 1 if len(ids) else 0
    found = tracks_with_facts([int(pk) for pk in ids[start : start + PAGE_TRACKS]])
    fits = [(track, fit_to(facts, target)) for track, facts in found]
    return {
        "groups": [(group, fit_word(group.kind, target)) for group in groups[:MOST_GROUPS]],
        "more_groups": max(0, len(groups) - MOST_GROUPS),
        "narrowed": len(chosen) < len(groups),
        "among": len(ids),
        "page": page,
        "lines": [(track, fit_word(fit.kind, target), fit.kind, fit.reason) for track, fit in fits],
    }


def _chosen(form: WhereForm, groups: list[ReasonGroup]) -> list[ReasonGroup]:
    """The groups that were asked for."""
    fit, why = form.group_chosen()
    return [group for group in groups if (not fit or group.kind == fit) and (not why or group.key == why)]


def _ids(groups: list[ReasonGroup]) -> "np.ndarray[Any, np.dtype[np.int64]]":
    """The tracks of some groups. Within each they keep their order."""
    return np.concatenate([np.zeros(0, np.int64), *(group.ids for group in groups)])


@require_POST
def pull_group(request: HttpRequest) -> HttpResponse:
    """Pull the tracks that stand to a target in some way, or take them off where they are pulled already."""
    form = WhereForm(request.GET)
    target, tracks = form.target_chosen(), form.tracks_chosen()
    if target is None:
        messages.error(request, "Choose a target, then one of its numbers.")
        return back_to(request, "targets:where")
    ids = [int(pk) for pk in _ids(_chosen(form, reason_groups(_kinds(request, tracks), target)))]
    if tracks:
        messages.success(request, f"{counted(pull_tracks(ids=ids), 'track')} pulled.")
    else:
        text = f"{counted(take_off_tracks(ids=ids), 'track')} taken off."
        messages.success(request, text, extra_tags=undo(reverse("collection:undo-clear")))
    return back_to(request, "targets:where")
