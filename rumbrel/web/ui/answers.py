"""Answers that several screens give."""

from collections.abc import Iterator
from contextlib import contextmanager

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import redirect
from django.utils.http import url_has_allowed_host_and_scheme

from rumbrel.core.errors import RumbrelError

__all__ = ["back_to", "refusals_told", "undo"]


def back_to(request: HttpRequest, name: str, *args: object) -> HttpResponse:
    """To the page that the form named in "back", if it is one of ours, else to the page of that name."""
    address = request.POST.get("back", "")
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
