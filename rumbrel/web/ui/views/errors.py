"""Pages of our own for what goes wrong, in plain words and with a way on. They need no database."""

import sys

from django.http import HttpRequest, HttpResponse
from django.template.loader import render_to_string

from ..outages import outage_reason

__all__ = ["bad_request", "forbidden", "foreign", "forgery", "not_allowed", "not_found", "server_error"]

_TEXTS = {
    400: ("That could not be read", "Rumbrel did not understand the request. Go back and try again."),
    403: ("Not allowed", "This page does not show that, or the request came from another page than ours."),
    404: ("Not here", "There is nothing at this address, or it is no longer there."),
    413: ("Too much at once", "That is more than one upload can hold. Send fewer or smaller files at a time."),
    429: ("Not now", "Too many requests. Wait a while, then try again."),
    503: ("Not now", "Something that Rumbrel needs is not available at the moment. Try again."),
    500: ("Something went wrong", "An error in Rumbrel. Nothing that was finished is lost; the log has the details."),
}


def _page(status: int, text: str = "", *, again: str = "") -> HttpResponse:
    """again is an address that the user may go on to by his own hand."""
    title, usual = _TEXTS[status]
    context = {"title": title, "text": text or usual, "status": status, "again": again}
    return HttpResponse(render_to_string("ui/error.html", context), status=status)


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    too_many = type(exception).__name__ in ("TooManyFilesSent", "TooManyFieldsSent", "RequestDataTooBig")
    return _page(413 if too_many else 400)


def forbidden(request: HttpRequest, exception: Exception) -> HttpResponse:
    return _page(403)


def forgery(request: HttpRequest, reason: str = "") -> HttpResponse:
    """A form without the token of this installation, most often one that stood open for long."""
    return _page(403, "The form was too old, or came from another page than ours. Load the page again, then repeat it.")


def foreign(request: HttpRequest) -> HttpResponse:
    """What another site's page asked for, which may be a link that the user followed."""
    text = "The request came from a page of another site, so nothing was done."
    return _page(403, text, again=request.get_full_path() if request.method == "GET" else "")


def not_allowed(request: HttpRequest, text: str, *, status: int = 403) -> HttpResponse:
    """Somebody who is signed in, or tries to be, asked for what is not for him."""
    return _page(status, text)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    said = exception.args[0] if exception.args and isinstance(exception.args[0], str) else ""
    return _page(404, said if said.endswith(".") else "")


def server_error(request: HttpRequest) -> HttpResponse:
    """Where the database or a disk was in the way, that is no error of ours, and it can be put right."""
    outage = outage_reason(sys.exc_info()[1])
    return _page(503, outage) if outage else _page(500)
