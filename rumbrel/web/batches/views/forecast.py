"""The forecast, and the start of a batch."""

from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import Action
from rumbrel.web.collection.queries import pulled_ids

from .. import services
from ..forms import ForecastForm
from ..rows import forecast_row, shared_reason
from ..services.forecast_tracks import PulledForecast

PAGE_LINES = 100


@require_safe
def forecast(request: HttpRequest) -> HttpResponse:
    form = ForecastForm(request.GET)
    try:
        found = services.forecast_tracks(wish=form.wish())
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("targets:index")
    return render(request, "batches/forecast.html", {"form": form, **_shown(request, found)})


def _shown(request: HttpRequest, found: PulledForecast) -> dict[str, Any]:
    plan = found.forecast
    level = found.wish.level.rule_for(found.wish.target)
    page = Paginator(plan.steps, PAGE_LINES).get_page(request.GET.get("page"))
    rows = [forecast_row(step, found.titles.get(step.source_id, "")) for step in page]
    counts = dict.fromkeys(Action, 0)
    for step in plan.steps:
        counts[step.action] += 1
    return {
        "plan": plan,
        "page": page,
        "rows": rows,
        "total": len(plan.steps),
        "counts": {str(action): number for action, number in counts.items()},
        "wish": found.wish,
        "level": level,
        "sets_level": level.mode in ("track", "album"),
        "shared": shared_reason([step.reason for step in plan.working]),
        "largest": max(
            [1, *(max(step.source.size_bytes, step.after.size_bytes if step.after else 0) for step in page)]
        ),
        "can_start": bool(plan.working),
    }


@require_POST
def start(request: HttpRequest) -> HttpResponse:
    form = ForecastForm(request.POST)
    try:
        batch = services.start_batch(track_ids=pulled_ids(), wish=form.wish())
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("batches:forecast")
    return redirect("batches:batch", pk=batch.pk)
