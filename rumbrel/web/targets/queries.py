"""Tracks by what targets judge them by."""

from collections.abc import Sequence

import numpy as np
from django.db.models import QuerySet
from numpy.typing import NDArray

from rumbrel.core.inspection import Facts
from rumbrel.core.targets import all_targets
from rumbrel.web.collection.models import Pull, Track
from rumbrel.web.collection.queries import facts_by_id

from .standing import TrackKind, bitrate_class, bitrate_limits

__all__ = ["all_in_kinds", "pulled_in_kinds", "pulled_page"]

_JUDGED = (
    "container", "codec", "lossless", "sample_rate", "bit_depth", "channels", "bitrate_bps", "bitrate_mode",
    "channel_mode", "has_video", "has_lead", "seconds", "faults", "whole", "usable",
)  # fmt: skip
_SHORT_SECONDS = 2.0
Kinds = tuple[list[TrackKind], list[Facts], NDArray[np.intp]]


def pulled_in_kinds(owner: str = "") -> Kinds:
    """(kinds, facts of one track of each, the kind of every pulled track in the order of pulling)."""
    pulls = Pull.objects.filter(pull_list__owner=owner, cleared_at=None).order_by("pk")
    return _in_kinds(pulls.values_list("track_id", *(f"track__{name}" for name in _JUDGED)))


def all_in_kinds() -> Kinds:
    """The same for the whole collection, in no order."""
    return _in_kinds(Track.objects.order_by().values_list("pk", *_JUDGED))


def _in_kinds(rows: "QuerySet[Pull, tuple[object, ...]] | QuerySet[Track, tuple[object, ...]]") -> Kinds:
    limits = bitrate_limits(all_targets())
    numbers: dict[tuple[object, ...], int] = {}
    first: list[int] = []
    kinds: list[TrackKind] = []
    order: list[int] = []
    for row in rows.iterator(chunk_size=5_000):
        pk, container, codec, lossless, rate, depth, channels, bps, mode, stereo, video, lead, seconds, *state = row
        key = (
            container, codec, lossless, rate, depth, channels, bitrate_class(bps, limits), mode, stereo, video,  # type: ignore[arg-type]
            lead, seconds < _SHORT_SECONDS, *state,  # type: ignore[operator]
            # A faulty file is judged by its own faults, whose sentences differ.
            pk if state[0] else None,
        )  # fmt: skip
        number = numbers.get(key)
        if number is None:
            number = numbers[key] = len(kinds)
            kinds.append(TrackKind(*key))  # type: ignore[arg-type]
            first.append(pk)  # type: ignore[arg-type]
        order.append(number)
    known = facts_by_id(first)
    facts = [known.get(pk) or Facts(path="") for pk in first]
    return kinds, facts, np.array(order, dtype=np.intp)


def pulled_page(owner: str, start: int, count: int) -> Sequence[tuple[Track, Facts]]:
    """Some of the pulled tracks with their facts, in the order of pulling."""
    pulls = Pull.objects.filter(pull_list__owner=owner, cleared_at=None).order_by("pk").select_related("track")
    tracks = [pull.track for pull in pulls[start : start + count]]
    known = facts_by_id([track.pk for track in tracks])
    return [(track, known[track.pk]) for track in tracks if track.pk in known]
