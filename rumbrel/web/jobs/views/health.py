"""Whether Rumbrel works, for who supervises it: nothing of the collection is said."""

from django.db import DatabaseError
from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_safe

from ..models import Job
from ..watch import SECONDS_BETWEEN_LOOKS, seconds_since_beat

__all__ = ["health"]

_LATE_SECONDS = 12 * SECONDS_BETWEEN_LOOKS


@require_safe
def health(request: HttpRequest) -> JsonResponse:
    """200 where pages and work go on, 503 where one of them does not."""
    try:
        Job.objects.only("pk").first()
        database = "ok"
    except DatabaseError:
        database = "cannot be used"
    since = seconds_since_beat()
    work = "not started" if since is None else "ok" if since < _LATE_SECONDS else f"silent for {since:.0f} s"
    well = database == work == "ok"
    answer = {"state": "ok" if well else "failed", "database": database, "work": work}
    return JsonResponse(answer, status=200 if well else 503, headers={"Cache-Control": "no-store"})
