"""Help with shortcuts."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

SHORTCUTS = (
    ("j / k", "next and previous row"),
    ("p", "pull the row, or take it off"),
    ("shift p", "pull all rows from the last pulled one to this one, like a click with shift on its box"),
    ("space", "play the track of the row, the panel or the page; pause"),
    (", / .", "5 seconds back or forward"),
    ("m", "set the start of a selection, then its end, then clear it; a selection repeats"),
    ("+ / - / 0", "zoom in, zoom out, show the whole track"),
    ("← / →", "on the ruler: a second back or forward; page up and page down: ten; home and end"),
    ("1 to 7", "in a comparison, listen to that sound; in a blind test, 1 is the first and 2 the second"),
    ("enter", "on a row, open it; in a cell, save the text"),
    ("ctrl enter", "the page's main button: start the batch, lay out the disc, write it, deliver"),
    ("/", "search the collection"),
    ("f", "forecast for the pulled tracks"),
    ("l", "make a playlist of the pulled tracks"),
    ("e", "edit the tags of the track, or of the pulled ones"),
    ("alt ↑ / alt ↓", "on a playlist or a disc, move the row, or the selected rows, up or down"),
    ("x", "on a playlist, select the row; on a disc, exclude or include it"),
    ("r", "on a disc, let the track run on from the previous one, or add a gap again"),
    ("u", "on a playlist or a disc, undo the last change"),
    ("w", "the Work page; on a disc, the page for writing it"),
    ("d", "light or dark"),
    ("?", "this page"),
)


@require_safe
def help_page(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/help.html", {"shortcuts": SHORTCUTS})
