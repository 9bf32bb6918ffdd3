"""Lets in who is signed in and may do what is asked, where accounts are on; says who asks for all that follows."""

from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse, HttpResponseBase, HttpResponseRedirect
from django.urls import reverse
from django.utils.http import urlencode

from rumbrel.web.ui.asking import asking
from rumbrel.web.ui.roles import Role, needed_role
from rumbrel.web.ui.views.errors import not_allowed

from .services import may_be_first, note_act

__all__ = ["Admission", "OPEN_VIEWS"]

OPEN_VIEWS = frozenset({"accounts:sign-in", "accounts:first", "jobs:health"})
"""What is answered to everybody: they say nothing of the collection."""


class Admission:
    """Behind the middleware that knows the session."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        name = ""
        if settings.RUMBREL.has_accounts and request.user.is_authenticated:
            name = request.user.get_username()
        with asking(name):
            return self._answer(request)

    def process_view(
        self, request: HttpRequest, view: Any, args: list[Any], kwargs: dict[str, Any]
    ) -> HttpResponseBase | None:
        """None lets the view answer."""
        name = request.resolver_match.view_name if request.resolver_match else ""
        if not settings.RUMBREL.has_accounts or name in OPEN_VIEWS:
            return None
        if not request.user.is_authenticated:
            return _to_sign_in(request)
        needed = needed_role(name, request.method or "")
        if request.user.role < needed:
            return not_allowed(request, _refusal(Role(request.user.role), needed))
        if needed is Role.ADMINISTER and request.method == "POST":
            note_act(owner=request.user.get_username(), view=name, address=request.path)
        return None


def _refusal(role: Role, needed: Role) -> str:
    return f"Your account may {role.said}; this is for accounts that may {needed.said}. Ask an administrator."


def _to_sign_in(request: HttpRequest) -> HttpResponseBase:
    address = reverse("accounts:first" if may_be_first() else "accounts:sign-in")
    if request.headers.get("HX-Request"):
        # The whole page goes there, not the fragment that was asked for.
        return HttpResponse(status=200, headers={"HX-Redirect": address})
    if request.method in ("GET", "HEAD") and request.headers.get("Sec-Fetch-Dest", "document") == "document":
        return HttpResponseRedirect(f"{address}?{urlencode({'next': request.get_full_path()})}")
    return HttpResponse("Sign in again.", status=401, content_type="text/plain")
