"""Playlists: the lists, one list, and its order."""

from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import PlaylistError
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.ui.answers import undo

from .. import services
from ..forms import MakeForm, MoveForm, OrderForm
from ..models import Entry, Playlist
from ..queries import deleted_lists, entries_page, playlists

PAGE_LISTS = 100


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    page = Paginator(playlists(), PAGE_LISTS).get_page(request.GET.get("page"))
    return render(request, "playlists/playlists.html", {"page": page, "form": MakeForm(), "deleted": deleted_lists()})


@require_POST
def make(request: HttpRequest) -> HttpResponse:
    form = MakeForm(request.POST)
    name = form.cleaned_data["name"] if form.is_valid() else request.POST.get("name", "")[:200]
    try:
        playlist = services.make_playlist(name=name, track_ids=pulled_ids())
    except PlaylistError as error:
        messages.error(request, str(error))
        return redirect("playlists:index")
    return redirect("playlists:playlist", pk=playlist.pk)


def _context(request: HttpRequest, playlist: Playlist) -> dict[str, Any]:
    number = request.GET.get("page") or request.POST.get("page")
    return {"playlist": playlist, "page": entries_page(playlist, number)}


@require_safe
def playlist(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist, pk=pk)
    context = {**_context(request, found), "goes_with_it": services.said_of(found)}
    return render(request, "playlists/playlist.html", context)


def _entries(request: HttpRequest, found: Playlist) -> HttpResponse:
    """The entries as htmx asks for them, or the list's page."""
    if request.headers.get("HX-Request"):
        return render(request, "playlists/_entries.html", _context(request, found))
    return redirect("playlists:playlist", pk=found.pk)


@require_POST
def order(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist, pk=pk)
    services.order_entries(playlist=found, order=OrderForm(request.POST.getlist("entry")).order())
    return _entries(request, found)


@require_POST
def move(request: HttpRequest, pk: int) -> HttpResponse:
    entry = get_object_or_404(Entry.objects.select_related("playlist"), pk=pk)
    form = MoveForm(request.POST)
    if form.is_valid():
        services.move_entry(entry=entry, step=-1 if form.cleaned_data["way"] == "up" else 1)
    return _entries(request, entry.playlist)


@require_POST
def remove(request: HttpRequest, pk: int) -> HttpResponse:
    entry = get_object_or_404(Entry.objects.select_related("playlist", "track"), pk=pk)
    services.remove_entry(entry=entry)
    if not request.headers.get("HX-Request"):
        messages.success(request, f"{entry.track.title} left the list; its file stays where it is.")
    return _entries(request, entry.playlist)


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist, pk=pk)
    try:
        with_it = services.delete_playlist(playlist=found)
    except PlaylistError as error:
        messages.error(request, str(error))
        return redirect("playlists:playlist", pk=pk)
    text = f"The list {found.name} was deleted. {with_it}".strip()
    messages.success(request, f"{text} Its tracks stay.", extra_tags=undo(reverse("playlists:restore", args=[pk])))
    return redirect("playlists:index")


@require_POST
def restore(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist.all_lists.exclude(deleted_at=None), pk=pk)
    services.restore_playlist(playlist=found)
    messages.success(request, f"The list {found.name} is back.")
    return redirect("playlists:index")
