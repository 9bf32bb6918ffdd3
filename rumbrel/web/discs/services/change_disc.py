"""Change what a disc is to be."""

from typing import Any

from django.db import transaction

from rumbrel.core.errors import DiscError

from ..models import Disc

__all__ = ["change_disc"]


def change_disc(*, disc: Disc, wishes: dict[str, Any]) -> None:
    """Take the sentence's choices. Raises DiscError while the disc is being written."""
    with transaction.atomic():
        fresh = Disc.objects.select_related("job").get(pk=disc.pk)
        if fresh.busy:
            raise DiscError("The disc is being written. Stop the write, or wait for its end, then change it.")
        Disc.objects.filter(pk=disc.pk).update(**wishes)
