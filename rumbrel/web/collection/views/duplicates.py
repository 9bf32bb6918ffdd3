"""What is there more than once; which to keep is the user's decision."""

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.ui.answers import back_to
from rumbrel.web.ui.words import counted

from .. import services
from ..duplicates import group_keys, groups_on_page
from ..forms import DuplicatesForm, IdsForm
from ..models import DeepLook, Track

PAGE_GROUPS = 20


@require_safe
def duplicates(request: HttpRequest) -> HttpResponse:
    form = DuplicatesForm(request.GET)
    page = Paginator(group_keys(form.kind_chosen()), PAGE_GROUPS).get_page(request.GET.get("page"))
    context = {
        "form": form,
        "kind": form.kind_chosen(),
        "page": page,
        "groups": groups_on_page(form.kind_chosen(), list(page.object_list)),
        "looked": DeepLook.objects.exclude(digest="").count(),
        "tracks": Track.objects.count(),
    }
    return render(request, "collection/duplicates.html", context)


@require_POST
def pull_some(request: HttpRequest) -> HttpResponse:
    """Pull the tracks that the form names."""
    form = IdsForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Those tracks could not be identified. Reload the page.")
    else:
        messages.success(request, f"{counted(services.pull_tracks(ids=form.there()), 'track')} pulled.")
    return back_to(request, "collection:index")
