"""Views of the collection that a user keeps by name."""

from django.http import QueryDict
from django.utils import timezone

from rumbrel.web.ui.asking import who_asks

from ..models import SavedView

__all__ = ["keep_view", "remove_view", "restore_view"]


def keep_view(*, name: str, query: str) -> SavedView:
    """Keep the query of the collection's address, from its first page, in place of what had the name."""
    asked = QueryDict(query, mutable=True)
    for cursor in ("after", "before", "choosing"):
        asked.pop(cursor, None)
    defaults = {"query": asked.urlencode(), "removed_at": None}
    return SavedView.objects.update_or_create(owner=who_asks(), name=name, defaults=defaults)[0]


def remove_view(*, view: SavedView) -> None:
    SavedView.objects.filter(pk=view.pk).update(removed_at=timezone.now())


def restore_view(*, view: SavedView) -> None:
    SavedView.objects.filter(pk=view.pk).update(removed_at=None)
