"""The bench: the stand-ins that ship with Rumbrel, and what is in them."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.bench.recorder import recorder_for
from rumbrel.core.disc.media import MEDIA
from rumbrel.core.errors import DiscError, RumbrelError
from rumbrel.web.discs.queries import copies, written_discs
from rumbrel.web.discs.services import put_in as fill_tray
from rumbrel.web.discs.services import take_out as empty_tray
from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.answers import refusals_told

from .. import services
from ..forms import BlankForm, ImageForm, PutInForm, RealVolumeForm
from ..models import TakeIn
from ..rows import blank_row, drive_rows, recorder_rows
from ..shelf_rows import chosen_item, shelf_items
from ..volume_rows import volume_devices

_MOST_TAKEN = 30


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    what = request.GET.get("what", "")
    offered = dict(services.sources_offered()) if what else {}
    volumes = volume_devices()
    items = shelf_items(services.discs_on_shelf(), volumes)
    context = {
        "items": items,
        "chosen": chosen_item(items, request.GET.get("put", "")),
        "sockets": sum(1 for each in volumes if not each.is_in and each.row.key),
        "busy": Job.objects.filter(kind__in=("take-in", "deliver", "practice"), state__in=Job.ACTIVE).exists(),
        "player": services.disc_in_player(),
        "has_practice": services.has_practice_discs(),
        "what": what if what in offered else "",
        "what_words": offered.get(what, ""),
        "drives": drive_rows(),
        "recorders": recorder_rows(),
        "taken": TakeIn.objects.exclude(readings={}).select_related("job")[:_MOST_TAKEN],
        "blanks": [blank_row(medium) for medium in MEDIA],
        "volumes": [each for each in volumes if each.is_in or not each.row.key],
        "real": RealVolumeForm(auto_id="real_%s"),
        "written": written_discs()[:50],
        "copies": copies()[:_MOST_TAKEN],
    }
    return render(request, "bench/bench.html", context)


@require_POST
def put_in(request: HttpRequest, drive: str) -> HttpResponse:
    form = PutInForm(request.POST, shelf=services.discs_on_shelf())
    if not form.is_valid():
        messages.error(request, "That disc is no longer on the shelf. Choose another one.")
        return redirect("bench:index")
    try:
        taken = services.put_disc_in(drive=drive, disc_key=form.cleaned_data["disc"])
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:index")
    return redirect("bench:taken", pk=taken.pk)


@require_POST
def take_out(request: HttpRequest, drive: str) -> HttpResponse:
    with refusals_told(request):
        services.take_disc_out(drive=drive)
    return redirect("bench:index")


@require_POST
def copy(request: HttpRequest, drive: str) -> HttpResponse:
    """The disc in a drive onto the blank in a recorder."""
    try:
        made = services.copy_disc_in(drive=drive)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:index")
    return redirect("discs:copy", pk=made.pk)


@require_POST
def blank_in(request: HttpRequest, recorder: str) -> HttpResponse:
    form = BlankForm(request.POST)
    with refusals_told(request):
        recorder_for(recorder)
        if not form.is_valid():
            raise DiscError("That blank is not on the shelf. Choose another one.")
        fill_tray(recorder=recorder, shelf_key=form.cleaned_data["disc"])
    return redirect("bench:index")


@require_POST
def blank_out(request: HttpRequest, recorder: str) -> HttpResponse:
    with refusals_told(request):
        recorder_for(recorder)
        empty_tray(recorder=recorder)
    return redirect("bench:index")


@require_POST
def practice(request: HttpRequest) -> HttpResponse:
    """Discs that are hard to read, to try taking in with."""
    services.start_practice_discs()
    messages.success(request, "Practice discs are being made. They will be on the shelf in a moment.")
    return redirect("bench:index")


@require_POST
def drop(request: HttpRequest) -> HttpResponse:
    """An image of the user's own onto the shelf."""
    form = ImageForm(request.POST, {"files": request.FILES.getlist("files")} if request.FILES else None)
    if not form.is_valid():
        messages.error(
            request, "Choose the files of an image first: a cue sheet and the files that it names, or an ISO."
        )
        return redirect("bench:index")
    try:
        disc = services.drop_image(files=form.cleaned_data["files"])
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:index")
    if isinstance(disc, services.ShelfDisc):
        messages.success(request, f"{disc.label} lies on the shelf now. Put it into a drive.")
    else:
        messages.success(request, f"{disc.title}: it lies on the shelf when that is done.")
    return redirect("bench:index")
