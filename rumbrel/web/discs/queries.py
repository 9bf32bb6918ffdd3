"""Discs as pages need them."""

from django.db.models import QuerySet

from .models import Disc

__all__ = ["discs", "written_discs"]


def discs() -> QuerySet[Disc]:
    return Disc.objects.select_related("playlist", "job")


def written_discs() -> QuerySet[Disc]:
    return discs().filter(state=Disc.State.WRITTEN)
