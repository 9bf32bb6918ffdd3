"""Playlists: the lists, one list, and every change of it."""

from collections.abc import Collection
from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.disc.media import medium_for
from rumbrel.core.errors import PlaylistError, RumbrelError
from rumbrel.web.collection.forms import SentenceForm
from rumbrel.web.collection.models import SourceFolder
from rumbrel.web.collection.queries import find_tracks, groups_of, pulled_as_shown, pulled_ids
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.collection.services import pull_tracks
from rumbrel.web.ui.answers import undo
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import (
    ACTS,
    SHUFFLED,
    AddForm,
    BringForm,
    DetailsForm,
    InterleaveForm,
    MakeForm,
    SearchForm,
    SortForm,
    numbers,
)
from ..models import Playlist
from ..queries import deleted_lists, entries_page, entry_behind, listed_ids, playlists, strip_of

PAGE_LISTS = 100
_MOST_FOUND = 30
_ACTS = (("turn", "Reverse order"), ("doubles", "Remove duplicates"))
_WAYS = (("up", "Up"), ("down", "Down"), ("top", "To the top"), ("end", "To the end"))
_MOST_ADDED = 20_000


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    page = Paginator(playlists(), PAGE_LISTS).get_page(request.GET.get("page"))
    context = {"page": page, "form": MakeForm(), "bring": BringForm(), "deleted": deleted_lists()}
    return render(request, "playlists/playlists.html", context)


@require_POST
def make(request: HttpRequest) -> HttpResponse:
    form = MakeForm(request.POST)
    name = form.cleaned_data["name"] if form.is_valid() else request.POST.get("name", "")[:200]
    try:
        playlist = services.make_playlist(name=name, track_ids=pulled_as_shown(request))
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("playlists:index")
    return redirect("playlists:playlist", pk=playlist.pk)


@require_POST
def bring(request: HttpRequest) -> HttpResponse:
    """A list that was made elsewhere, with a report of what of it is here."""
    form = BringForm(request.POST, request.FILES)
    if not form.is_valid():
        messages.error(request, " ".join(text for texts in form.errors.values() for text in texts))
        return redirect("playlists:index")
    try:
        brought = services.bring_list(file=form.cleaned_data["file"])
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("playlists:index")
    said = f"{brought.found:,} found, {brought.elsewhere:,} found elsewhere, {brought.missing:,} missing"
    if brought.playlist is None:
        text = "Nothing of this list is in the collection. Add the folders that hold its files, then import it again."
        messages.error(request, f"{text} ({said})")
        return redirect("playlists:index")
    messages.success(request, f"The list was imported: {said}.")
    return redirect("playlists:playlist", pk=brought.playlist.pk)


def _context(request: HttpRequest, playlist: Playlist) -> dict[str, Any]:
    number = request.GET.get("page") or request.POST.get("page")
    last = playlist.changes.first()
    shuffled = playlist.changes.filter(said__startswith=SHUFFLED).values_list("said", flat=True).first()
    page, blank = entries_page(playlist, number), medium_for("80")
    return {
        "playlist": playlist, "page": page, "behind": entry_behind(playlist, page), "undo": last.said if last else "",
        "strip": strip_of(playlist), "blank": blank, "free_seconds": blank.capacity_seconds - playlist.seconds,
        "over_seconds": playlist.seconds - blank.capacity_seconds, "seed": shuffled.removeprefix(SHUFFLED) if shuffled else "", "acts": _ACTS, "ways": _WAYS, "sort": SortForm(), "interleave": InterleaveForm(),
    }  # fmt: skip


@require_safe
def playlist(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Playlist, pk=pk)
    context = _context(request, found) | {
        "goes_with_it": services.said_of(found), "search": SearchForm(),
        "details": DetailsForm(initial={"name": found.name, "notes": found.notes}),
        "discs": found.discs.all(), "sheet": None if found.brought.get("sheet") else services.sheet_of(found),
    }  # fmt: skip
    return render(request, "playlists/playlist.html", context)


def _answer(
    request: HttpRequest, pk: int, *, told: str = "", error: str = "", marked: Collection[int] = ()
) -> HttpResponse:
    """The list as htmx asks for it, or its page. Rows that were selected stay so."""
    if request.headers.get("HX-Request"):
        found = get_object_or_404(Playlist, pk=pk)
        context = _context(request, found) | {"told": told, "refused": error, "marked": set(marked)}
        return render(request, "playlists/_list.html", context)
    if error or told:
        (messages.error if error else messages.success)(request, error or told)
    return redirect("playlists:playlist", pk=pk)


@require_POST
def act(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Any change of the list's rows, by its form."""
    if name not in ACTS:
        raise Http404("There is no such change of a list.")
    get_object_or_404(Playlist, pk=pk)
    form = ACTS[name](request.POST)
    if form.wrong:
        return _answer(request, pk, error=form.wrong)
    try:
        changed = services.change_list(
            playlist_id=pk, change=form.change, said=form.said, revision=form.cleaned_data["revision"], words=form.words
        )
    except RumbrelError as error:
        return _answer(request, pk, error=str(error), marked=form.marked)
    return _answer(request, pk, told=changed.told, marked=form.marked)


@require_POST
def undo_change(request: HttpRequest, pk: int) -> HttpResponse:
    get_object_or_404(Playlist, pk=pk)
    revision = numbers([request.POST.get("revision", "")])
    try:
        changed = services.undo_list(playlist_id=pk, revision=revision[0] if revision else None)
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    return _answer(request, pk, told=changed.told)


@require_safe
def search(request: HttpRequest, pk: int) -> HttpResponse:
    """What can be put on the list: tracks, or whole albums, performers or folders."""
    found = get_object_or_404(Playlist, pk=pk)
    words, by = SearchForm(request.GET).asked()
    context: dict[str, Any] = {"playlist": found, "words": words, "by": by}
    sentence = Sentence(text=words)
    if by:
        groups, _ = groups_of(sentence, by)
        context["groups"] = [group for group in groups if group.name or by == "folder"][:_MOST_FOUND]
        context["folders"] = {folder.pk: folder.name for folder in SourceFolder.objects.all()} if by == "folder" else {}
    elif words.strip():
        tracks = find_tracks(sentence)
        context |= {"tracks": tracks[:_MOST_FOUND], "count": min(tracks.count(), _MOST_ADDED)}
    return render(request, "playlists/_found.html", context)


@require_POST
def add(request: HttpRequest, pk: int) -> HttpResponse:
    """Tracks by their ids, all that a sentence finds, or the pull list, behind the last entry."""
    get_object_or_404(Playlist, pk=pk)
    form = AddForm(request.POST)
    if not form.is_valid():
        return _answer(request, pk, error="Choose what shall be put on the list.")
    what = form.cleaned_data["what"]
    if what == "pulled":
        ids = pulled_ids()
    elif what == "found":
        ids = list(find_tracks(SentenceForm(request.GET).sentence()).values_list("pk", flat=True)[:_MOST_ADDED])
    else:
        wanted = numbers(request.POST.getlist("track"))
        ids = services.known_ids(wanted)
    try:
        changed = services.add_tracks(playlist_id=pk, track_ids=ids, revision=form.cleaned_data["revision"])
    except RumbrelError as error:
        return _answer(request, pk, error=str(error))
    return _answer(request, pk, told=changed.told)


@require_POST
def details(request: HttpRequest, pk: int) -> HttpResponse:
    """Name and notes."""
    found = get_object_or_404(Playlist, pk=pk)
    form = DetailsForm(request.POST)
    if form.is_valid():
        found.name, found.notes = form.cleaned_data["name"], form.cleaned_data["notes"]
        found.save(update_fields=["name", "notes"])
    else:
        messages.error(request, " ".join(text for texts in form.errors.values() for text in texts))
    return redirect("playlists:playlist", pk=pk)


@require_POST
def pull(request: HttpRequest, pk: int) -> HttpResponse:
    """All tracks of the list onto the pull list, for a batch."""
    found = get_object_or_404(Playlist, pk=pk)
    pulled = pull_tracks(ids=listed_ids(found.pk))
    messages.success(request, f"{counted(pulled, 'track')} pulled; those that were pulled already stay where they are.")
    return redirect("playlists:playlist", pk=pk)


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
