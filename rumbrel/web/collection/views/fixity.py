"""Fixity: is it still what it was?"""

import os
from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.workflows.fixity import read_manifest
from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.answers import back_to, refusals_told

from .. import services
from ..fixity_days import fixity_days
from ..forms import BagForm, FixityForm, PlanForm
from ..models import BagWork, SourceFolder, Track
from ..queries import changed_files, fixity_counts, pulled_as_shown

PAGE_FILES = 100
LARGEST_LIST_BYTES = 50_000_000


def _context(request: HttpRequest) -> dict[str, Any]:
    return {
        "form": FixityForm(),
        "days": fixity_days(),
        "counts": fixity_counts(),
        "page": Paginator(changed_files(), PAGE_FILES).get_page(request.GET.get("page")),
        "folders": [
            (
                folder,
                services.last_compared(folder),
                PlanForm({"days": folder.fixity_days}, auto_id=f"plan-{folder.pk}-%s"),
            )
            for folder in SourceFolder.objects.order_by("path")
        ],
        "bag_form": BagForm(auto_id="bag-%s"),
        "bags": BagWork.objects.exclude(path="")[:5],
        "jobs": list(Job.objects.filter(kind__in=("fixity", "bag"), state__in=Job.ACTIVE)),
        "last": Job.objects.filter(kind__in=("fixity", "bag")).exclude(state__in=Job.ACTIVE).first(),
    }


@require_safe
def fixity(request: HttpRequest) -> HttpResponse:
    return render(request, "collection/fixity.html", _context(request))


@require_safe
def listing(request: HttpRequest) -> HttpResponse:
    return render(request, "collection/_fixity.html", _context(request))


@require_POST
def check(request: HttpRequest) -> HttpResponse:
    form = FixityForm(request.POST)
    services.start_fixity(folder=form.cleaned_data["folder"] if form.is_valid() else None)
    return redirect("collection:fixity")


@require_POST
def plan(request: HttpRequest, pk: int) -> HttpResponse:
    """How often a folder is compared."""
    folder, form = get_object_or_404(SourceFolder, pk=pk), PlanForm(request.POST)
    if form.is_valid():
        services.plan_fixity(folder=folder, days=form.cleaned_data["days"])
        often = dict(form.fields["days"].choices)[form.cleaned_data["days"]]
        messages.success(request, f"{folder.name} is compared {often}.")
    else:
        messages.error(request, "Choose how often the folder is compared.")
    return redirect("collection:fixity")


@require_POST
def make_bag(request: HttpRequest) -> HttpResponse:
    form = BagForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Give the bag a name of at most 100 characters.")
        return redirect("collection:fixity")
    folder = form.cleaned_data["folder"]
    there = Track.objects.filter(folder=folder, missing_since=None).order_by("relative") if folder else None
    with refusals_told(request):
        ids = pulled_as_shown(request) if there is None else list(there.values_list("pk", flat=True))
        services.start_bag(name=form.cleaned_data["name"], track_ids=ids, description=form.cleaned_data["description"])
    return redirect("collection:fixity")


@require_POST
def take(request: HttpRequest, pk: int) -> HttpResponse:
    track = get_object_or_404(Track, pk=pk)
    if services.take_as_it_is(track=track):
        messages.success(request, f"{track} accepted as it is now.")
    else:
        messages.error(request, f"No change of {track} was found. Compare it first.")
    return back_to(request, "collection:fixity")


@require_safe
def checksums(request: HttpRequest, pk: int) -> HttpResponseBase:
    """A folder's checksums as a list that other programs read."""
    folder = get_object_or_404(SourceFolder, pk=pk)
    answer = StreamingHttpResponse(services.manifest_of(folder=folder), content_type="text/plain; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="folder-{folder.pk}.sha256"'
    return answer


@require_POST
def take_checksums(request: HttpRequest) -> HttpResponse:
    form = FixityForm(request.POST, request.FILES)
    if not form.is_valid() or not form.cleaned_data["folder"] or not form.cleaned_data["checksums"]:
        messages.error(request, "Choose a folder, and the list of its checksums.")
        return redirect("collection:fixity")
    file = form.cleaned_data["checksums"]
    if file.size > LARGEST_LIST_BYTES:
        messages.error(request, "That list is larger than 50 MB. Split it.")
        return redirect("collection:fixity")
    with refusals_told(request):
        found = read_manifest(os.fsdecode(file.read()))
        messages.success(request, services.keep_checksums(folder=form.cleaned_data["folder"], checksums=found))
    return redirect("collection:fixity")
