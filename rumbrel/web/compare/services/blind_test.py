"""Blind tests: orders that nobody sees, and answers that are kept."""

import secrets

from django.db import transaction

from rumbrel.core.errors import RumbrelError

from ..models import BlindTest, Comparison

__all__ = ["answer_trial", "start_test"]

TRIALS = (8, 10, 16, 20, 30)


def start_test(*, comparison: Comparison, one: int, other: int, trials: int, tells: bool = True) -> BlindTest:
    """Raises RumbrelError for voices that cannot be heard against each other."""
    heard = {voice["number"] for voice in comparison.found if not voice["error"]}
    if one == other or not {one, other} <= heard:
        raise RumbrelError("Choose two different sounds that can be heard.")
    return BlindTest.objects.create(
        comparison=comparison, one=one, other=other, trials=trials, tells=tells, one_first=bool(secrets.randbits(1))
    )


def answer_trial(*, test: BlindTest, number: int, said_first: bool) -> BlindTest:
    """Keep an answer, and draw the next order. A second answer to a trial that is over changes nothing."""
    with transaction.atomic():
        kept = BlindTest.objects.select_for_update().get(pk=test.pk)
        if not kept.ended and number == len(kept.answers) + 1:
            kept.answers = [*kept.answers, {"one_first": kept.one_first, "said_first": said_first}]
            kept.one_first = bool(secrets.randbits(1))
            kept.save(update_fields=["answers", "one_first"])
    return kept
