"""Help, the gallery of pieces, and the pull list's strip."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

SHORTCUTS = (
    ("j / k", "next and previous row"),
    ("p", "pull the row, or put it back"),
    ("enter", "show the row's track; start on the forecast"),
    ("/", "search the collection"),
    ("f", "forecast for the pulled tracks"),
    ("l", "make a playlist of the pulled tracks"),
    ("d", "light or dark"),
    ("?", "this page"),
)


def help_page(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/help.html", {"shortcuts": SHORTCUTS})


def gallery(request: HttpRequest) -> HttpResponse:
    lengths = [252, 198, 301, 263, 346, 224, 187, 712, 655, 94, 276, 248, 402, 311, 290, 288]
    return render(request, "ui/gallery.html", {"lengths": lengths, "few": lengths[:6]})


def pull_strip(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/_pull.html")


def head_work(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/_head_work.html")
