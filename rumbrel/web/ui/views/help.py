"""Help with shortcuts."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

SINGLE_KEYS = (
    ("j", "next row"),
    ("k", "previous row"),
    ("p", "pull the row, or take it off; with shift, all rows from the last pulled one to this one"),
    (",", "5 seconds back"),
    (".", "5 seconds forward"),
    ("m", "set the start of a selection, then its end, then clear it; a selection repeats"),
    ("+", "zoom in on the sound"),
    ("-", "zoom out"),
    ("0", "show the whole track"),
    ("/", "search the collection"),
    ("f", "forecast for the pulled tracks"),
    ("l", "make a playlist of the pulled tracks"),
    ("e", "edit the tags of the track, or of the pulled ones"),
    ("x", "on a playlist, select the row; on a disc, exclude or include it"),
    ("r", "on a disc, let the track run on from the previous one, or add a gap again"),
    ("u", "on a playlist or a disc, undo the last change"),
    ("w", "the Work page; on a disc, the page for writing it"),
    ("d", "light or dark"),
    ("?", "this page"),
)
"""Each can be another one: the browser keeps which."""
SHORTCUTS = (
    ("space", "play the track of the row, the panel or the page; pause"),
    ("← / →", "on the ruler: a second back or forward; page up and page down: ten; home and end"),
    ("1 to 7", "in a comparison, listen to that sound; in a blind test, 1 is the first and 2 the second"),
    (
        "← ↑ → ↓",
        "in a table: the next cell; page up and page down: ten rows; home and end, with ctrl first and last row",
    ),
    ("Esc", "close what was opened from a row; leave a field"),
    ("enter", "on a row, open it; in a cell, save the text"),
    ("ctrl enter", "the page's main button: start the batch, make the disc, write it, deliver"),
    ("alt ↑ / alt ↓", "on a playlist or a disc, move the row, or the selected rows, up or down"),
)


@require_safe
def help_page(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/help.html", {"shortcuts": SHORTCUTS, "single_keys": SINGLE_KEYS})
