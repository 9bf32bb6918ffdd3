"""Help with shortcuts."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

SHORTCUTS = (
    ("j / k", "next and previous row"),
    ("p", "pull the row, or take it off"),
    ("shift p", "pull all rows from the one marked last to this one, as a press with shift on its mark does"),
    ("space", "hear the track of the row, the panel or the page; pause"),
    (", / .", "5 seconds back, 5 seconds on"),
    ("m", "mark a stretch of what is heard: from here, to here, none; what is marked repeats"),
    ("+ / - / 0", "look closer at the sound, wider, at the whole track"),
    ("← / →", "on the ruler: a second back or on; page up and page down: ten; home and end"),
    ("1 to 7", "in a comparison, hear that sound; in a blind test, 1 and 2 hear the first and the second"),
    ("enter", "on a row, open it; in a cell, keep what was typed"),
    ("ctrl enter", "the page's main button: start the batch, lay out the disc, write it, deliver"),
    ("/", "search the collection"),
    ("f", "forecast for the pulled tracks"),
    ("l", "make a playlist of the pulled tracks"),
    ("e", "edit the tags of the track, or of the pulled ones"),
    ("alt ↑ / alt ↓", "on a list or a disc, move the row, or what is marked, up or down"),
    ("x", "on a list, mark the row; on a disc, leave it out or put it back"),
    ("r", "on a disc, let the track run on from the one before, or give it a gap again"),
    ("u", "on a list or a disc, undo the last change"),
    ("w", "work in the background; on a disc, to writing it"),
    ("d", "light or dark"),
    ("?", "this page"),
)


@require_safe
def help_page(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/help.html", {"shortcuts": SHORTCUTS})
