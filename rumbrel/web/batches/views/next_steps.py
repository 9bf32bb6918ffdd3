"""What could be made of the pulled tracks: the panel beside the table while no track is chosen."""

from typing import Any

from django.db.models import Q, Sum
from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import render
from django.views.decorators.http import require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import Action
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import pull_list_of, pulled_ids

from .. import services
from ..forms import FIRST_TARGET, ForecastForm
from ..models import Batch

_MOST_FORESEEN = 200
"""More tracks than these are not looked at for a line of a panel."""
BLANK_SECONDS = 80 * 60


@require_safe
def panel(request: HttpRequest) -> HttpResponse:
    listed = pull_list_of()
    context: dict[str, Any] = {"pulled": listed.count, "seconds": listed.seconds}
    if listed.count:
        tracks = Track.objects.filter(pk__in=pulled_ids()[:_MOST_FORESEEN])
        untagged = tracks.filter(Q(album="") | Q(performer=""))
        context |= {
            "free_seconds": BLANK_SECONDS - listed.seconds,
            "over_seconds": listed.seconds - BLANK_SECONDS,
            "first": tracks.filter(usable=True).values_list("pk", flat=True).first(),
            "without_album": tracks.filter(album="").count(),
            "without_performer": tracks.filter(performer="").count(),
            "untagged": untagged.exists(),
            "lossy_seconds": tracks.filter(lossless=False).aggregate(s=Sum("seconds"))["s"] or 0,
            "lossy": tracks.filter(lossless=False, usable=True).count(),
            **(_foreseen() if listed.count <= _MOST_FORESEEN else {}),
        }
    return render(request, "batches/_next.html", context)


def _foreseen() -> dict[str, Any]:
    """For the target that was used last."""
    last = Batch.objects.order_by("-pk").values_list("targets", flat=True).first()
    slug = str(last[0].get("slug", FIRST_TARGET)) if last else FIRST_TARGET
    try:
        form = ForecastForm(QueryDict(f"target={slug}"))
        found = services.forecast_tracks(wish=form.wish())
    except RumbrelError:
        # Its page says what is wrong with it.
        return {}
    working = found.working
    made = sum(step.action in (Action.CONVERT, Action.REWRAP) for step in working)
    refused = sum(step.action is Action.REFUSE for step in found.steps)
    return {
        "target": found.wish.targets[0], "query": form.query, "made": made, "refused": refused,
        "as_they_are": len(found.steps) - made - refused, "bytes_before": found.bytes_before,
        "bytes_after": found.bytes_after, "expected_seconds": services.expected_seconds(working),
    }  # fmt: skip
