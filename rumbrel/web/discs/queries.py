"""Discs as pages need them."""

from django.db.models import QuerySet

from .models import Disc

__all__ = ["discs", "written_discs"]


def discs() -> QuerySet[Disc]:
    return Disc.objects.filter(playlist__deleted_at=None).select_related("playlist", "job")


def written_discs() -> QuerySet[Disc]:
    """Those whose image is there, proved or not."""
    return discs().exclude(image_path="")
