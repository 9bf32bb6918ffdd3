"""Help with shortcuts."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

SHORTCUTS = (
    ("j / k", "next and previous row"),
    ("p", "pull the row, or take it off"),
    ("enter", "on a row, open it; on the forecast, start the batch"),
    ("/", "search the collection"),
    ("f", "forecast for the pulled tracks"),
    ("l", "make a playlist of the pulled tracks"),
    ("w", "work in the background"),
    ("d", "light or dark"),
    ("?", "this page"),
)


@require_safe
def help_page(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/help.html", {"shortcuts": SHORTCUTS})
