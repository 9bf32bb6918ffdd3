"""Blind tests: hear the first and the second, say which is which, and see how likely guessing would do as well."""

import csv
import io
import json

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.sound.guessing import chance_of_guessing
from rumbrel.core.workflows.compare import voice_file

from .. import services
from ..forms import AnswerForm, BlindForm
from ..models import BlindTest, Comparison
from ..rows import GUESS_HEIGHT, guess_bars, trial_marks, trial_rows


@require_POST
def start(request: HttpRequest, pk: int) -> HttpResponse:
    made = get_object_or_404(Comparison, pk=pk)
    form = BlindForm(request.POST, voices=[(voice["number"], "") for voice in made.found])
    try:
        if not form.is_valid():
            raise RumbrelError("Choose two different sounds, and the number of trials.")
        test = services.start_test(comparison=made, **form.cleaned_data)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("compare:comparison", pk)
    return redirect("compare:blind", test.pk)


def _test(pk: int) -> BlindTest:
    return get_object_or_404(BlindTest.objects.select_related("comparison__track"), pk=pk)


@require_safe
def blind(request: HttpRequest, pk: int) -> HttpResponse:
    test = _test(pk)
    labels = [voice["label"] for voice in test.comparison.voices]
    context = {
        "test": test,
        "one": labels[test.one],
        "other": labels[test.other],
        "number": len(test.answers) + 1,
        "rows": trial_rows(test) if test.judged else [],
        "marks": trial_marks(test),
        "bars": guess_bars(test) if test.ended else [],
        "floor": GUESS_HEIGHT,
        "chance": 100 * chance_of_guessing(test.right, len(test.answers)),
        "gone": not voice_file(services.comparison_folder(test.comparison), test.one).is_file(),
    }
    return render(request, "compare/blind.html", context)


@require_safe
def sound(request: HttpRequest, pk: int, number: int, which: str) -> HttpResponseBase:
    """The first or the second of the trial under way. Addresses, lengths and levels are the same for both."""
    test = _test(pk)
    if which not in ("first", "second") or number != len(test.answers) + 1 or test.ended:
        raise Http404("This trial is over.")
    is_one = (which == "first") == test.one_first
    path = voice_file(services.comparison_folder(test.comparison), test.one if is_one else test.other)
    if not path.is_file():
        raise Http404("This sound is no longer kept. Make the comparison again.")
    # No name and no date of the file, which would tell the two apart.
    answer = HttpResponse(path.read_bytes(), content_type="audio/wav")
    answer["Cache-Control"] = "no-store"
    return answer


@require_POST
def answer(request: HttpRequest, pk: int) -> HttpResponse:
    test, form = _test(pk), AnswerForm(request.POST)
    if form.is_valid():
        services.answer_trial(
            test=test, number=form.cleaned_data["number"], said_first=form.cleaned_data["said"] == "first"
        )
    else:
        messages.error(request, "Choose the first or the second.")
    return redirect("compare:blind", pk)


@require_safe
def export(request: HttpRequest, pk: int, kind: str) -> HttpResponse:
    """The answers, with what was compared and the chance of guessing."""
    test = _test(pk)
    rows = trial_rows(test)[::-1]
    if kind == "json":
        labels = [voice["label"] for voice in test.comparison.voices]
        record = {
            "track": str(test.comparison.track), "start_seconds": test.comparison.start_seconds,
            "seconds": test.comparison.seconds, "one": labels[test.one], "other": labels[test.other],
            "planned": test.trials, "right": test.right, "answered": len(rows),
            "chance_of_guessing": chance_of_guessing(test.right, len(rows)),
            "trials": [{"number": row.number, "said": row.said, "was": row.was, "right": row.right} for row in rows],
        }  # fmt: skip
        text, media_type = json.dumps(record, indent=1) + "\n", "application/json"
    else:
        file = io.StringIO()
        writer = csv.writer(file)
        writer.writerow(("trial", "said", "was", "right"))
        writer.writerows((row.number, row.said, row.was, "right" if row.right else "wrong") for row in rows)
        text, media_type = file.getvalue(), "text/csv"
    response = HttpResponse(text, content_type=f"{media_type}; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="blind-test-{pk}.{kind}"'
    return response
