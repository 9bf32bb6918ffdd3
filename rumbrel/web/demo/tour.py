"""The tour's steps, and where who asks is in it."""

from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.urls import reverse

from rumbrel.web.ui.asking import who_asks

from .models import Tour

__all__ = ["STEPS", "TourStep", "leave", "to_next", "tour"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TourStep:
    """A screen by its view, and what to see there."""

    view: str
    title: str
    text: str


STEPS = (
    TourStep(
        view="collection:index", title="What do I have?",
        text="Every file as it really is, read from its content; some are faulty on purpose. Space plays the row, p pulls it.",
    ),
    TourStep(
        view="targets:where", title="What will play where?",
        text="All tracks against all targets, with the reasons. Each number leads to its tracks, ready to pull.",
    ),
    TourStep(
        view="batches:forecast", title="What would happen?",
        text="The pulled tracks, now and after, before anything runs. Ctrl+Enter starts the batch.",
    ),
    TourStep(
        view="batches:index", title="Is it right?",
        text="Each result was decoded again and compared. A report says what failed and why, and plays both.",
    ),
    TourStep(
        view="discs:index", title="A disc that fits",
        text="One list runs over its blank: open it to see ways to fit. Another one is written and read back.",
    ),
    TourStep(
        view="bench:index", title="Drives, recorders, sticks",
        text="Stand-ins for real ones: put a disc with spots into a drive, or an old stick into the car.",
    ),
)  # fmt: skip


def _mine() -> Tour:
    return Tour.objects.get_or_create(owner=who_asks())[0]


def to_next() -> str:
    """The address of the next step; the last one ends the tour where it is."""
    mine = _mine()
    if mine.step + 1 >= len(STEPS):
        leave()
        return reverse(STEPS[-1].view)
    mine.step += 1
    mine.save(update_fields=["step"])
    return reverse(STEPS[mine.step].view)


def leave() -> None:
    Tour.objects.update_or_create(owner=who_asks(), defaults={"left": True})


def tour(request: HttpRequest) -> dict[str, Any]:
    """The step for every page, where there is a tour and it was not left."""
    if not settings.RUMBREL.shows_tour or Tour.objects.filter(owner=who_asks(), left=True).exists():
        return {"tour": None}
    number = min(_mine().step, len(STEPS) - 1)
    step, here = STEPS[number], request.resolver_match.view_name if request.resolver_match else ""
    return {
        "tour": {
            "number": number + 1, "of": len(STEPS), "title": step.title, "text": step.text,
            "address": "" if here == step.view else reverse(step.view), "last": number + 1 == len(STEPS),
        }
    }  # fmt: skip
