"""What every page shows: navigation, the pull list, and the work under way."""

from typing import Any

from django.conf import settings
from django.db.models import Sum
from django.http import HttpRequest

from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.web.batches.models import Batch
from rumbrel.web.batches.services import pace
from rumbrel.web.collection.models import Pull

NAVIGATION = (
    ("collection", "Collection"),
    ("where", "What plays where"),
    ("targets", "Targets"),
    ("batches", "Batches"),
    ("playlists", "Playlists"),
    ("discs", "Discs"),
    ("bench", "Bench"),
)

STATIONS = {
    "folders": "collection",
    "forecast": "batches",
    "batch": "batches",
    "playlist": "playlists",
    "disc": "discs",
}
"""The navigation entry that a page below it belongs to."""


def pull_state() -> dict[str, Any]:
    """The pull list against an 80 minute blank."""
    pulls = Pull.objects.select_related("track")
    totals = pulls.aggregate(seconds=Sum("track__seconds"), size=Sum("track__size_bytes"))
    seconds = totals["seconds"] or 0.0
    blank = medium_for("80").capacity_sectors / SECTORS_PER_SECOND
    return {
        "tracks": [pull.track for pull in pulls],
        "seconds": seconds,
        "size": totals["size"] or 0,
        "blank_seconds": blank,
        "free_seconds": blank - seconds,
        "over_seconds": seconds - blank,
    }


def frame(request: HttpRequest) -> dict[str, Any]:
    match = request.resolver_match
    running = Batch.objects.filter(state=Batch.State.RUNNING).first()
    return {
        "navigation": NAVIGATION,
        "here": STATIONS.get(match.url_name, match.url_name) if match else "",
        "pull": pull_state(),
        "running_batch": running,
        "running_pace": pace(running) if running else None,
        "show_gallery": settings.SHOW_GALLERY,
        "theme": request.COOKIES.get("theme", ""),
    }
