"""The pull list, which the head of most pages shows."""

from typing import Any

from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from rumbrel.core.disc.media import medium_for

from .queries import pull_list_of

__all__ = ["pull"]


def pull(request: HttpRequest) -> dict[str, Any]:
    """The pull list against an 80 minute blank; looked up only by pages that show it."""

    def found() -> dict[str, Any]:
        blank_seconds = medium_for("80").capacity_seconds
        pull_list = pull_list_of()
        return {
            "list": pull_list,
            "blank_seconds": blank_seconds,
            "free_seconds": blank_seconds - pull_list.seconds,
            "over_seconds": pull_list.seconds - blank_seconds,
        }

    return {"pull": SimpleLazyObject(found)}
