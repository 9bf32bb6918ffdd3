"""Playlists."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from rumbrel.core.errors import PlaylistError
from rumbrel.web.collection.services import pulled_tracks

from . import services
from .models import Entry, Playlist


def index(request: HttpRequest) -> HttpResponse:
    return render(request, "playlists/index.html", {"playlists": Playlist.objects.all()})


@require_POST
def make(request: HttpRequest) -> HttpResponse:
    try:
        playlist = services.make(request.POST.get("name", ""), pulled_tracks())
    except PlaylistError as error:
        messages.error(request, str(error))
        return redirect("playlists")
    return redirect("playlist", pk=playlist.pk)


def _list(request: HttpRequest, playlist: Playlist) -> HttpResponse:
    entries = list(playlist.entries.select_related("track"))
    template = "playlists/_entries.html" if request.htmx else "playlists/playlist.html"
    return render(request, template, {"playlist": playlist, "entries": entries})


def playlist(request: HttpRequest, pk: int) -> HttpResponse:
    return _list(request, get_object_or_404(Playlist, pk=pk))


@require_POST
def reorder(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist, pk=pk)
    services.reorder(found, [int(value) for value in request.POST.getlist("entry") if value.isdecimal()])
    return _list(request, found) if request.htmx else redirect("playlist", pk=pk)


@require_POST
def move(request: HttpRequest, pk: int) -> HttpResponse:
    entry = get_object_or_404(Entry.objects.select_related("playlist"), pk=pk)
    services.move(entry, -1 if request.POST.get("way") == "up" else 1)
    return _list(request, entry.playlist) if request.htmx else redirect("playlist", pk=entry.playlist_id)


@require_POST
def remove(request: HttpRequest, pk: int) -> HttpResponse:
    entry = get_object_or_404(Entry.objects.select_related("playlist", "track"), pk=pk)
    entry.delete()
    messages.success(request, f"{entry.track.title} left the list; its file stays where it is.")
    return redirect("playlist", pk=entry.playlist_id)


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist, pk=pk)
    found.delete()
    messages.success(request, f"The list {found.name} is gone; its tracks stay in the collection.")
    return redirect("playlists")
