"""What plays where: every target against the pulled tracks, or one of them in words."""

from typing import Any

from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from rumbrel.core.targets import Target, all_targets, fit_to
from rumbrel.web.collection.queries import pull_list_of
from rumbrel.web.ui.words import FIT_WORDS, fit_word

from ..forms import WhereForm
from ..queries import all_in_kinds, pulled_in_kinds, pulled_page
from ..rows import standing_row
from ..standing import standings

PAGE_TRACKS = 100
MOST_MARKS = 160


@require_safe
def where(request: HttpRequest) -> HttpResponse:
    form = WhereForm(request.GET)
    target, whole = form.target_chosen(), form.whole_collection()
    context: dict[str, Any] = {"form": form, "chosen": target, "whole": whole, "words": list(FIT_WORDS.values())}
    context |= _one(request, target) if target and not whole else _every(whole, target)
    return render(request, "targets/where.html", context)


def _every(whole: bool, target: Target | None) -> dict[str, Any]:
    facts, order = all_in_kinds() if whole else pulled_in_kinds()
    chosen = [target] if target else all_targets()
    found = standings(facts, order, chosen, marks=MOST_MARKS) if len(order) else []
    return {"count": len(order), "rows": [standing_row(each) for each in found]}


def _one(request: HttpRequest, target: Target) -> dict[str, Any]:
    count = pull_list_of().count
    page = Paginator(range(count), PAGE_TRACKS).get_page(request.GET.get("page"))
    tracks = pulled_page("", page.start_index() - 1 if count else 0, PAGE_TRACKS)
    fits = [(track, fit_to(facts, target)) for track, facts in tracks]
    lines = [(track, fit_word(fit.kind, target), fit.kind, fit.reason) for track, fit in fits]
    return {"count": count, "page": page, "lines": lines}
