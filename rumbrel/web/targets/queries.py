"""Tracks by what targets judge them by."""

from collections.abc import Iterable, Sequence

import numpy as np
from django.db.models import BooleanField, ExpressionWrapper, Q, QuerySet, TextField
from django.db.models.functions import JSONArray
from numpy.typing import NDArray

from rumbrel.core.inspection import Facts
from rumbrel.core.targets import all_targets
from rumbrel.core.targets.fit import SHORTEST_AVERAGE_SECONDS
from rumbrel.web.collection.models import Pull, Track
from rumbrel.web.collection.queries import facts_by_id

from .standing import bitrate_class, bitrate_limits

__all__ = ["all_in_kinds", "pulled_in_kinds", "pulled_page"]

_JUDGED = (
    "container", "codec", "lossless", "sample_rate", "bit_depth", "channels", "bitrate_mode", "channel_mode",
    "has_video", "has_lead", "whole", "usable",
)  # fmt: skip
"""What targets judge a track by, but for its bitrate and its faults."""
Kinds = tuple[list[Facts], NDArray[np.intp]]


def pulled_in_kinds(owner: str = "") -> Kinds:
    """(facts of one track of each kind, the kind of every pulled track in the order of pulling)."""
    pulls = Pull.objects.filter(pull_list__owner=owner, cleared_at=None).order_by("pk")
    return _in_kinds(_judged(pulls, "track_id", "track__"))


def all_in_kinds() -> Kinds:
    """The same for the whole collection, in no order."""
    return _in_kinds(_judged(Track.objects.order_by(), "pk", ""))


def _judged(rows: "QuerySet[Pull] | QuerySet[Track]", pk: str, prefix: str) -> Iterable[tuple[int, str, int, int]]:
    """(track, what it is judged by as one text that the database makes, bits/s, faults)."""
    short = ExpressionWrapper(Q(**{f"{prefix}seconds__lt": SHORTEST_AVERAGE_SECONDS}), output_field=BooleanField())
    judged = JSONArray(*(f"{prefix}{name}" for name in _JUDGED), short, output_field=TextField())
    values = rows.annotate(judged=judged).values_list(pk, "judged", f"{prefix}bitrate_bps", f"{prefix}faults")
    return values.iterator(chunk_size=5_000)


def _in_kinds(rows: Iterable[tuple[int, str, int, int]]) -> Kinds:
    limits = bitrate_limits(all_targets())
    numbers: dict[tuple[str, int, int], int] = {}
    first: list[int] = []
    order: list[int] = []
    for pk, judged, bitrate_bps, faults in rows:
        # A faulty file is judged by its own faults, whose sentences differ.
        key = (judged, bitrate_class(bitrate_bps, limits), pk if faults else 0)
        number = numbers.setdefault(key, len(first))
        if number == len(first):
            first.append(pk)
        order.append(number)
    known = facts_by_id(first)
    return [known.get(pk) or Facts(path="") for pk in first], np.array(order, dtype=np.intp)


def pulled_page(owner: str, start: int, count: int) -> Sequence[tuple[Track, Facts]]:
    """Some of the pulled tracks with their facts, in the order of pulling."""
    pulls = Pull.objects.filter(pull_list__owner=owner, cleared_at=None).order_by("pk").select_related("track")
    tracks = [pull.track for pull in pulls[start : start + count]]
    known = facts_by_id([track.pk for track in tracks])
    return [(track, known[track.pk]) for track in tracks if track.pk in known]
