"""Answers that several screens give."""

from collections.abc import Iterator
from contextlib import contextmanager
from urllib.parse import urlsplit

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import redirect
from django.utils.http import url_has_allowed_host_and_scheme

from rumbrel.core.errors import RumbrelError

__all__ = ["HERE", "back_to", "refusals_told", "undo"]

HERE = "here"


def back_to(request: HttpRequest, name: str, *args: object) -> HttpResponse:
    """To the page that the form named in "back", if it is one of ours, else to the page of that name. HERE in its place
    stands for the page as its address is by now: a search that goes on while one types has changed it since."""
    address = request.POST.get("back", "")
    if address == HERE:
        came_from = urlsplit(request.headers.get("Referer", ""))
        address = came_from._replace(scheme="", netloc="").geturl() if came_from.netloc == request.get_host() else ""
    ours = address.startswith("/") and url_has_allowed_host_and_scheme(address, allowed_hosts=None)
    return HttpResponseRedirect(address) if ours else redirect(name, *args)


@contextmanager
def refusals_told(request: HttpRequest) -> Iterator[None]:
    """What cannot be done is told on the page that follows."""
    try:
        yield
    except RumbrelError as error:
        messages.error(request, str(error))


def undo(address: str) -> str:
    """The tag of a message that offers to undo what it tells, by posting to an address."""
    return f"undo:{address}"
