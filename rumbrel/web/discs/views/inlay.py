"""Inlays and labels of a disc: shown, and printed."""

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from rumbrel.core.errors import DiscError
from rumbrel.core.inlay import PIECES, Drawing, InlayContents, draw, pdf_of, piece_for, svg_of
from rumbrel.core.workflows.design_data import files_inlay
from rumbrel.core.workflows.design_disc import DesignPlan

from .. import services
from ..forms import InlayForm
from ..models import Disc
from .discs import find_disc


def _drawn(found: Disc, piece: str, variant: str) -> tuple[Drawing, ...]:
    """Raises DiscError for a piece there is not."""
    plan = services.plan_layout(disc=found).plan
    if isinstance(plan, DesignPlan):
        contents = InlayContents.of(plan.layout, plan.text)
    else:
        contents = files_inlay(plan, title=found.name)
    return draw(piece_for(piece), contents, variant)


@require_safe
def page(request: HttpRequest, pk: int) -> HttpResponse:
    found = find_disc(pk)
    form = InlayForm(request.GET)
    variant = form.variant_chosen()
    try:
        drawings = [each for piece in PIECES for each in _drawn(found, piece.key, variant)]
    except DiscError as error:
        raise Http404(str(error)) from error
    context = {"disc": found, "form": InlayForm(initial={"variant": variant}), "drawings": drawings, "variant": variant}
    return render(request, "discs/inlay.html", context)


@require_safe
def printed(request: HttpRequest, pk: int, piece: str, form: str) -> HttpResponse:
    """A piece as SVG or PDF."""
    found = find_disc(pk)
    variant = InlayForm(request.GET).variant_chosen()
    try:
        drawings = _drawn(found, piece, variant)
    except DiscError as error:
        raise Http404(str(error)) from error
    if form not in ("svg", "pdf"):
        raise Http404("It is printed as SVG or PDF.")
    title = f"{found}, {drawings[0].piece.label}"
    if form == "svg":
        number = request.GET.get("page", "1")
        page = next((each for each in drawings if str(each.page) == number), None)
        if page is None:
            raise Http404("There is no such page.")
        answer = HttpResponse(svg_of(page, title=title), content_type="image/svg+xml; charset=utf-8")
    else:
        answer = HttpResponse(pdf_of(drawings, title=title), content_type="application/pdf")
    if "save" in request.GET:
        answer["Content-Disposition"] = f'attachment; filename="disc-{pk}-{piece}.{form}"'
    return answer
