"""A comparison: what is compared, hearing it, and seeing it."""

from collections.abc import Sequence
from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, HttpResponseBase, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.sound.fine_picture import load_picture
from rumbrel.core.workflows.compare import MOST_VOICES, difference_file, picture_file, plain_file, voice_file
from rumbrel.web.batches.forms import ForecastForm
from rumbrel.web.batches.services import choices_of
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.pictures import spectrum_record
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.jobs.rows import job_row

from .. import services
from ..forms import LENGTHS_SECONDS, BlindForm, CompareForm
from ..models import Comparison
from ..rows import voice_rows

PAGE_COMPARISONS = 30
MOST_TO_CHOOSE = 100
_COLUMNS = 1200


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    """What was compared, and the sentence for another comparison."""
    form = CompareForm(request.GET)
    form.is_valid()
    track = form.cleaned_data.get("track")
    pulled = Track.objects.filter(pk__in=pulled_ids()[:MOST_TO_CHOOSE], usable=True, missing_since=None)
    forecast, wish = _forecast_of(request.GET)
    chosen = form.settings_chosen() or ([f"forecast:{target.slug}" for target in wish.all_targets] if wish else [])
    chosen = chosen[: MOST_VOICES - 1]
    page = Paginator(Comparison.objects.select_related("track", "job"), PAGE_COMPARISONS).get_page(
        request.GET.get("page")
    )
    context = {
        "track": track,
        "tracks": [each for each in pulled if track is None or each.pk != track.pk],
        "offered": _offered(track, chosen, wish) if track else [],
        "chosen": chosen,
        "most": MOST_VOICES - 1,
        "forecast": forecast if wish else None,
        "seconds": form.cleaned_data.get("seconds") or 15,
        "lengths": LENGTHS_SECONDS,
        "start": form.cleaned_data.get("start") or 0,
        "page": page,
    }
    return render(request, "compare/index.html", context)


def _offered(
    track: Track, chosen: Sequence[str], wish: BatchWish | None
) -> list[tuple[str, list[tuple[str, str]], bool]]:
    """With whether each group stands open: the first one does, and those of which something is chosen."""
    groups = services.voices_offered(track, chosen, wish)
    return [
        (heading, choices, number == 0 or any(value in chosen for value, _ in choices))
        for number, (heading, choices) in enumerate(groups)
    ]


def _forecast_of(query: QueryDict) -> tuple[ForecastForm, BatchWish | None]:
    """What a forecast's address asks for, where there is one in it. Raises RumbrelError."""
    form = ForecastForm(query)
    return form, form.wish(choices_of(pulled_ids())) if query.get("like") == "forecast" else None


@require_POST
def start(request: HttpRequest) -> HttpResponse:
    form = CompareForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Choose a track, a place in it in seconds, and at least one sound to compare.")
        return redirect("compare:index")
    sent = form.cleaned_data
    try:
        _, wish = _forecast_of(request.POST)
        made = services.start_comparison(
            track=sent["track"], settings_chosen=form.settings_chosen(), start_seconds=sent["start"] or 0.0,
            seconds=sent["seconds"], wish=wish,
        )  # fmt: skip
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("compare:index")
    return redirect("compare:comparison", made.pk)


def _context(made: Comparison) -> dict[str, Any]:
    rows = voice_rows(made)
    heard = [(row.number, row.label) for row in rows if not row.found["error"]]
    kept = bool(rows) and voice_file(services.comparison_folder(made), 0).is_file()
    return {
        "made": made,
        "rows": rows if kept else [],
        "work": job_row(made.job) if made.job else None,
        "busy": bool(made.job and made.job.active),
        "gone": bool(rows) and not kept,
        "blind": BlindForm(None, voices=heard, initial={"one": 0, "other": heard[-1][0], "trials": 10})
        if len(heard) > 1
        else None,
        "tests": list(made.tests.all()[:10]),
    }


@require_safe
def comparison(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "compare/comparison.html", _context(_made(pk)))


@require_safe
def state(request: HttpRequest, pk: int) -> HttpResponse:
    """While it is made: how far it is; then the page is loaded anew."""
    made = _made(pk)
    if made.job is None or not made.job.active:
        return HttpResponse(headers={"HX-Refresh": "true"})
    return render(request, "compare/_making.html", _context(made))


def _made(pk: int) -> Comparison:
    return get_object_or_404(Comparison.objects.select_related("track", "job"), pk=pk)


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """The same once more, where its sounds are no longer kept."""
    made = _made(pk)
    keys = [voice.get("key", "") for voice in made.voices[1:]]
    try:
        other = services.start_comparison(
            track=made.track, settings_chosen=[key for key in keys if key], start_seconds=made.start_seconds,
            seconds=made.seconds,
            wish=BatchWish.restored(made.wish["targets"], made.wish["options"]) if made.wish else None,
        )  # fmt: skip
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("compare:comparison", pk)
    return redirect("compare:comparison", other.pk)


@require_safe
def sound(request: HttpRequest, pk: int, number: int) -> HttpResponseBase:
    of_voice = plain_file if "plain" in request.GET else voice_file
    path = of_voice(services.comparison_folder(_made(pk)), number)
    if not path.is_file():
        raise Http404("This sound is no longer kept. Make the comparison again.")
    answer = FileResponse(path.open("rb"), content_type="audio/wav")
    answer["Cache-Control"] = "private, no-cache"
    return answer


@require_safe
def picture(request: HttpRequest, pk: int, number: int) -> HttpResponse:
    """A voice's spectrum in columns; with ?difference that of what differs from the source."""
    folder = services.comparison_folder(_made(pk))
    path = difference_file(folder, number) if "difference" in request.GET else picture_file(folder, number)
    try:
        kept = load_picture(path)
    except RumbrelError as error:
        return JsonResponse({"error": str(error)}, status=409)
    if kept is None:
        raise Http404("This picture is no longer kept. Make the comparison again.")
    view = kept.view(0, kept.samples / kept.sample_rate, _COLUMNS)
    return JsonResponse(spectrum_record(kept, view))
