"""What every page shows: navigation, theme, and whether single keys are shortcuts."""

from typing import Any

from django.conf import settings
from django.http import HttpRequest

from .guide import page_of_screen
from .navigation import entries, holder_of

__all__ = ["frame"]


def frame(request: HttpRequest) -> dict[str, Any]:
    view_name = request.resolver_match.view_name if request.resolver_match else ""
    here = holder_of(view_name)
    return {
        "navigation": [(entry, entry is here) for entry in entries()],
        "guide_slug": page_of_screen(view_name),
        "largest_drop_bytes": settings.RUMBREL.largest_drop_bytes,
        "shows_gallery": settings.RUMBREL.shows_gallery,
        "theme": request.COOKIES.get("theme", "") if request.COOKIES.get("theme") in ("light", "dark") else "",
        "keys_off": request.COOKIES.get("keys") == "off",
    }
