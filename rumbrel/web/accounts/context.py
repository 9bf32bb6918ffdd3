"""Who is signed in, for the head of every page."""

from typing import Any

from django.conf import settings
from django.http import HttpRequest

__all__ = ["signed_in"]


def signed_in(request: HttpRequest) -> dict[str, Any]:
    """Nobody where accounts are off: then everything may be done."""
    known = settings.RUMBREL.has_accounts and getattr(request, "user", None) is not None
    account = request.user if known and request.user.is_authenticated else None
    return {"account": account, "has_accounts": settings.RUMBREL.has_accounts}
