"""Tracks by what targets judge them by."""

from array import array
from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np
from django.db.models import BooleanField, ExpressionWrapper, Q, QuerySet, TextField
from django.db.models.functions import JSONArray

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.forecast.naming import Naming
from rumbrel.core.inspection import Facts
from rumbrel.core.places import file_system_for
from rumbrel.core.targets import Target, all_targets
from rumbrel.core.targets.fit import SHORTEST_AVERAGE_SECONDS
from rumbrel.core.targets.pattern import check_pattern
from rumbrel.web.collection.models import Pull, Track
from rumbrel.web.collection.queries import facts_by_id, find_tracks, known_tracks
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.ui.asking import who_asks

from .standing import Kinds, bitrate_class, bitrate_limits

__all__ = ["all_in_kinds", "found_in_kinds", "named_tracks", "pulled_in_kinds", "tracks_with_facts"]

_JUDGED = (
    "container", "codec", "lossless", "sample_rate", "bit_depth", "channels", "bitrate_mode", "channel_mode",
    "has_video", "has_lead", "whole", "usable",
)  # fmt: skip
"""What targets judge a track by, but for its bitrate and its faults."""


def pulled_in_kinds() -> Kinds:
    """The pulled tracks, in the order of pulling."""
    pulls = Pull.objects.filter(pull_list__owner=who_asks(), cleared_at=None).order_by("pk")
    return _in_kinds(_judged(pulls, "track_id", "track__"))


def all_in_kinds() -> Kinds:
    """The whole collection, in no order."""
    return _in_kinds(_judged(Track.objects.order_by(), "pk", ""))


def found_in_kinds(sentence: Sentence) -> Kinds:
    """What a sentence of the collection finds, in its order."""
    return _in_kinds(_judged(find_tracks(sentence), "pk", ""))


Judged = Iterable[tuple[int, str, int, int, float]]


def _judged(rows: "QuerySet[Pull] | QuerySet[Track]", pk: str, prefix: str) -> Judged:
    """(track, what it is judged by as one text that the database makes, bits/s, faults, seconds)."""
    short = ExpressionWrapper(Q(**{f"{prefix}seconds__lt": SHORTEST_AVERAGE_SECONDS}), output_field=BooleanField())
    judged = JSONArray(*(f"{prefix}{name}" for name in _JUDGED), short, output_field=TextField())
    names = (pk, "judged", *(f"{prefix}{name}" for name in ("bitrate_bps", "faults", "seconds")))
    return rows.annotate(judged=judged).values_list(*names).iterator(chunk_size=5_000)


def _in_kinds(rows: Judged) -> Kinds:
    limits = bitrate_limits(all_targets())
    numbers: dict[tuple[str, int, int], int] = {}
    first: list[int] = []
    order, ids, lengths = array("q"), array("q"), array("d")
    for pk, judged, bitrate_bps, faults, seconds in rows:
        # A faulty file is judged by its own faults, whose sentences differ.
        key = (judged, bitrate_class(bitrate_bps, limits), pk if faults else 0)
        number = numbers.setdefault(key, len(first))
        if number == len(first):
            first.append(pk)
        order.append(number)
        ids.append(pk)
        lengths.append(seconds)
    known = facts_by_id(first)
    return Kinds(
        facts=tuple(known.get(pk) or Facts(path="") for pk in first), order=np.array(order, dtype=np.intp),
        ids=np.array(ids, dtype=np.int64), seconds=np.array(lengths, dtype=np.float64),
    )  # fmt: skip


def tracks_with_facts(ids: Sequence[int]) -> Sequence[tuple[Track, Facts]]:
    """Tracks with their facts, in the order of the ids."""
    tracks, known = Track.objects.in_bulk(list(ids)), facts_by_id(ids)
    return [(tracks[pk], known[pk]) for pk in ids if pk in known and pk in tracks]


def named_tracks(target: Target, ids: Sequence[int], *, pattern: str, file_system: str, longest: str) -> list[str]:
    """What results of some tracks would be called. Raises TargetError for a pattern that cannot be, OutputError for an
    unknown file system."""
    if pattern:
        check_pattern(pattern)
    limit = int(longest) if longest.isascii() and longest.isdecimal() and 8 <= int(longest[:4]) <= 255 else None
    naming = Naming(pattern=pattern, system=file_system_for(file_system or "native"), longest=limit)
    suffix = encoding_for(target.make.encoding).suffix
    names = []
    for number, track in enumerate(known_tracks(ids), 1):
        if track.facts is not None:
            folders, stem = naming.parts(Path(track.relative), track.facts, target, number)
            names.append(str(naming.folder(folders) / naming.name(stem, suffix)).encode("utf-8", "replace").decode())
    return names
