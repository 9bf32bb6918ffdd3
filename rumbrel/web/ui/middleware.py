"""What holds for every request: who may ask, and that an answer to HEAD has no body."""

from collections.abc import Callable
from functools import cache
from zoneinfo import ZoneInfo, available_timezones

from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.utils import timezone

from .views.errors import foreign

__all__ = ["bodiless_head", "in_own_zone", "nothing_but_sound", "own_pages_only"]

Answer = Callable[[HttpRequest], HttpResponseBase]
_OWN = ("same-origin", "none", "")
"""As Fetch Metadata (W3C) names them: from our own pages, by the user's own hand, or by what says nothing of it."""


def own_pages_only(answer: Answer) -> Answer:
    """Refuse what another site's page asks for. A link on it, or in a mail, that somebody follows opens the page: no GET
    changes anything or starts work."""

    def guarded(request: HttpRequest) -> HttpResponseBase:
        if request.headers.get("Sec-Fetch-Site", "") not in _OWN and not _is_followed(request):
            return foreign(request)
        return answer(request)

    return guarded


def _is_followed(request: HttpRequest) -> bool:
    headers = request.headers
    navigates = headers.get("Sec-Fetch-Mode") == "navigate" and headers.get("Sec-Fetch-Dest") == "document"
    return request.method in ("GET", "HEAD") and navigates


_FEATURES = (
    "accelerometer", "autoplay", "camera", "display-capture", "encrypted-media", "fullscreen", "geolocation", "gyroscope",
    "magnetometer", "microphone", "midi", "payment", "picture-in-picture", "publickey-credentials-get", "usb",
)  # fmt: skip
_OWN_FEATURES = frozenset({"autoplay"})
"""What is heard goes on by itself."""


def nothing_but_sound(answer: Answer) -> Answer:
    """Our pages use none of the browser's devices, and nobody else's page may show what we answer."""
    policy = ", ".join(f"{name}=({'self' if name in _OWN_FEATURES else ''})" for name in _FEATURES)

    def answered(request: HttpRequest) -> HttpResponseBase:
        response = answer(request)
        response.headers.setdefault("Permissions-Policy", policy)
        response.headers.setdefault("Cross-Origin-Resource-Policy", "same-origin")
        return response

    return answered


def bodiless_head(answer: Answer) -> Answer:
    """An answer to HEAD is its headers alone (RFC 9110, 9.3.2); the server does not see to that by itself."""

    def answered(request: HttpRequest) -> HttpResponseBase:
        response = answer(request)
        if request.method == "HEAD":
            if response.streaming:
                response.close()
                response = HttpResponse(status=response.status_code, headers=dict(response.items()))
            else:
                length = len(response.content)  # type: ignore[attr-defined]
                response.content = b""  # type: ignore[attr-defined]
                response.setdefault("Content-Length", str(length))
        return response

    return answered


@cache
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())


def in_own_zone(answer: Answer) -> Answer:
    """Times on pages are those of the browser's zone, which it names in a cookie; UTC until it has."""

    def answered(request: HttpRequest) -> HttpResponseBase:
        name = request.COOKIES.get("zone", "")
        with timezone.override(ZoneInfo(name) if name in _zones() else None):
            return answer(request)

    return answered
