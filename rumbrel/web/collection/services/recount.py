"""The kept counts of a folder."""

from django.db import transaction
from django.db.models import Count, Max, Sum

from ..models import Facet, PullList, SourceFolder
from .pull_tracks import recount_pulls

__all__ = ["recount_folder"]


def recount_folder(*, folder: SourceFolder) -> None:
    """Bring the kept counts of a folder into line with its tracks, and those of the lists that its tracks are pulled
    on: what was foreseen of them holds no longer."""
    rows = (
        folder.tracks.order_by()
        .values("format", "sample_rate", "fault")
        .annotate(n=Count("pk"), s=Sum("seconds"), b=Sum("size_bytes"), longest=Max("seconds"))
    )
    facets = [
        Facet(
            folder=folder, format=row["format"], sample_rate=row["sample_rate"], fault=row["fault"], tracks=row["n"],
            seconds=row["s"], size_bytes=row["b"], longest_seconds=row["longest"],
        )
        for row in rows
    ]  # fmt: skip
    with transaction.atomic():
        folder.facets.all().delete()
        Facet.objects.bulk_create(facets)
        for pull_list in PullList.objects.filter(count__gt=0):
            if pull_list.pulls.filter(track__folder=folder).exists():
                recount_pulls(pull_list)
