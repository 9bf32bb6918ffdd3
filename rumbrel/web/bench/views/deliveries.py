"""Deliveries: the forecast, the work, and what came of it."""

from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.db.models import Sum
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.workflows.fixity import manifest_line
from rumbrel.web.batches.rows import shared_notes, shared_reason
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.jobs.services import stop_job
from rumbrel.web.ui.answers import refusals_told

from .. import services
from ..forms import ChooseForm, DeliverForm, LeaveOutForm
from ..models import Delivery, DeliveryItem, VolumeRow
from ..volume_rows import delivery_lengths, fate_counts, volume_view

_PAGE_ITEMS = 100


def _delivery(pk: int) -> Delivery:
    return get_object_or_404(Delivery.objects.select_related("job", "volume"), pk=pk)


def _context(request: HttpRequest, delivery: Delivery) -> dict[str, Any]:
    items = delivery.items.all()
    only = request.GET.get("fate", "")
    shown = items.filter(fate=only) if only else items
    page = Paginator(shown, _PAGE_ITEMS).get_page(request.GET.get("page"))
    sums = delivery.sums
    done = items.filter(state=DeliveryItem.State.DONE).count()
    failed = items.filter(state__in=(DeliveryItem.State.FAILED, DeliveryItem.State.PART)).count()
    waiting = items.filter(state=DeliveryItem.State.WAITING).count()
    notes = shared_notes([[warning["text"] for warning in item.warnings] for item in page])
    is_right = delivery.source == services.RIGHT
    return {
        "notes": notes,
        "letters": {note.text: note.letter for note in notes},
        "shared": shared_reason([item.reason for item in page]),
        # One to select by before the start, one for the state after it.
        "columns": 9 + bool(delivery.started or not is_right),
        "delivery": delivery,
        "row": delivery.volume,
        "sums": sums,
        "fates": fate_counts(delivery),
        "lengths": delivery_lengths(delivery) if sums else [],
        "page": page,
        "only": only,
        "work": job_row(delivery.job) if delivery.job else None,
        "done": done,
        "failed": failed,
        "total": items.count(),
        "seconds": items.aggregate(s=Sum("seconds"))["s"] or 0,
        "offers": sums.get("offers", []),
        "can_start": bool(sums)
        and sums["fits"]
        and not delivery.busy
        and (waiting > 0 or failed > 0 or not delivery.started),
        "is_right": is_right,
        "may_go": delivery.finished_at is not None and not delivery.busy and not failed,
        "has_digests": bool(services.digests_of_delivery(delivery)) if delivery.started else False,
    }


@require_safe
def page(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "bench/delivery.html", _context(request, _delivery(pk)))


@require_safe
def state(request: HttpRequest, pk: int) -> HttpResponse:
    """What changes while it is worked on."""
    return render(request, "bench/_delivery.html", _context(request, _delivery(pk)))


@require_POST
def make(request: HttpRequest, pk: int) -> HttpResponse:
    row = get_object_or_404(VolumeRow, pk=pk)
    form = DeliverForm(request.POST, sources=services.sources_offered())
    if not form.is_valid():
        messages.error(request, "That is no longer there. Choose something else to deliver.")
        return redirect("bench:volume", pk=pk)
    chosen = form.cleaned_data
    try:
        found = services.make_delivery(
            row=row, source=chosen["what"], names=chosen["names"], mirrors=chosen["rest"] == "mirror",
            tidies=chosen["rest"] == "earlier", with_digests=chosen["digests"] == "on",
        )  # fmt: skip
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:volume", pk=pk)
    return redirect("bench:delivery", pk=found.pk)


@require_POST
def put_right(request: HttpRequest, pk: int) -> HttpResponse:
    """What does not play is to be made anew in its place."""
    row = get_object_or_404(VolumeRow, pk=pk)
    try:
        view = volume_view(row)
        paths = [view.volume.root / track.entry.relative for track in view.refused]
        found = services.put_right(row=row, paths=paths)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("bench:volume", pk=pk)
    return redirect("bench:delivery", pk=found.pk)


@require_POST
def start(request: HttpRequest, pk: int) -> HttpResponse:
    with refusals_told(request):
        services.start_delivery(delivery=_delivery(pk))
    return redirect("bench:delivery", pk=pk)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    found = _delivery(pk)
    if found.job:
        stop_job(job=found.job)
    return redirect("bench:delivery", pk=pk)


@require_POST
def leave_out(request: HttpRequest, pk: int) -> HttpResponse:
    """Lines out of the delivery: an offer's, or those that were marked."""
    found = _delivery(pk)
    form = LeaveOutForm(request.POST, numbers=list(found.items.values_list("number", flat=True)))
    numbers = form.cleaned_data["number"] if form.is_valid() else []
    offer = form.cleaned_data.get("offer", "")
    numbers = next((each["numbers"] for each in found.sums.get("offers", []) if each["kind"] == offer), numbers)
    if not numbers:
        messages.error(request, "Select the lines to exclude first.")
        return redirect("bench:delivery", pk=pk)
    with refusals_told(request):
        services.leave_out_of(delivery=found, numbers=numbers)
    return redirect("bench:delivery", pk=pk)


@require_POST
def choose(request: HttpRequest, pk: int) -> HttpResponse:
    """What becomes of files of earlier deliveries, or of originals that are nowhere else."""
    form = ChooseForm(request.POST)
    with refusals_told(request):
        if not form.is_valid():
            raise OutputError("That choice is not known. Choose one of those that are shown.")
        chosen = form.cleaned_data
        services.change_delivery(
            delivery=_delivery(pk), tidies={"tidy": True, "leave": False}.get(chosen["earlier"]),
            gives_up={"remove": True, "aside": False}.get(chosen["originals"]),
        )  # fmt: skip
    return redirect("bench:delivery", pk=pk)


@require_safe
def digests(request: HttpRequest, pk: int) -> HttpResponse:
    """The SHA-256 of each file that was delivered, as sha256sum reads them."""
    found = _delivery(pk)
    text = "".join(manifest_line(sha256, name) for name, sha256 in services.digests_of_delivery(found))
    headers = {"Content-Disposition": f'attachment; filename="delivery-{found.pk}.sha256"'}
    return HttpResponse(text, content_type="text/plain; charset=utf-8", headers=headers)


@require_POST
def take_back(request: HttpRequest, pk: int) -> HttpResponse:
    with refusals_told(request):
        services.take_back_in(delivery=_delivery(pk))
    return redirect("bench:delivery", pk=pk)
