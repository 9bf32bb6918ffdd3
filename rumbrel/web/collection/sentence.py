"""The collection's sentence: what it can say, and which rows that means."""

import datetime
from dataclasses import dataclass

from django.db.models import F, Q
from django.db.models.lookups import Exact
from django.utils import timezone

from rumbrel.core.inspection import Facts

__all__ = [
    "ADDED",
    "ANY",
    "HAS",
    "KINDS",
    "LACKS",
    "NONE",
    "ORDERS",
    "TAGS",
    "Sentence",
    "finer",
    "narrowed",
    "tag_bits",
]

ANY, NONE = "any", "none"

ORDERS: dict[str, tuple[str, ...]] = {
    "folder": ("relative",),
    "title": ("title",),
    "performer": ("performer", "relative"),
    "album": ("album", "relative"),
    "year": ("year", "relative"),
    "format": ("format", "relative"),
    "rate": ("sample_rate", "relative"),
    "bitrate": ("-bitrate_bps",),
    "added last": ("-pk",),
    "length": ("-seconds",),
    "size": ("-size_bytes",),
    "fault": ("-fault", "relative"),
}

TAGS: dict[str, str] = {
    "title": "title", "performer": "artist", "album": "album", "album performer": "album_artist", "track number": "track",
    "date": "date", "genre": "genre", "composer": "composer", "comment": "comment", "ISRC": "isrc",
}  # fmt: skip
"""Tags whose presence is known of every track, and their fields; behind them the cover has a bit of its own."""
_COVER = "cover"
_BITS = {name: 1 << number for number, name in enumerate((*TAGS, _COVER))}


def tag_bits(facts: Facts) -> int:
    """Which of the tags a file has."""
    found = sum(_BITS[name] for name, field in TAGS.items() if facts.tags.fields.get(field))
    return found | (_BITS[_COVER] if facts.tags.covers else 0)


def _has(name: str) -> Q:
    bit = _BITS[name]
    return Q(Exact(F("tag_bits").bitand(bit), bit))


KINDS: dict[str, Q] = {
    "lossless": Q(lossless=True),
    "lossy": Q(lossless=False) & ~Q(codec=""),
    "film": Q(has_video=True),
    "missing": Q(missing_since__isnull=False),
}
HAS: dict[str, Q] = {name: _has(name) for name in _BITS}
LACKS: dict[str, Q] = {
    **{name: Q(Exact(F("tag_bits").bitand(bit), 0)) for name, bit in _BITS.items()},
    "performer": Q(performer=""),
    "album": Q(album=""),
    "performer or album": Q(performer="") | Q(album=""),
}
ADDED: dict[str, int] = {"today": 1, "in the last 7 days": 7, "in the last 30 days": 30, "in the last year": 365}
"""Since when tracks were added, in days."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Sentence:
    """What the collection's sentence says; "" and None leave a choice open. directory is a folder within a source
    folder, "" being that itself. then breaks ties of order; turned has all of it the other way round."""

    folder: int | None = None
    format: str = ""
    or_format: str = ""
    rate: int | None = None
    fault: str = ""
    text: str = ""
    order: str = "folder"
    then: str = ""
    turned: bool = False
    kind: str = ""
    has: str = ""
    lacks: str = ""
    added: str = ""
    album: str = ""
    performer: str = ""
    directory: str | None = None
    within: str = ""
    least_seconds: float | None = None
    most_seconds: float | None = None
    least_kbps: int | None = None
    most_kbps: int | None = None
    least_khz: float | None = None
    most_khz: float | None = None
    least_mb: float | None = None
    most_mb: float | None = None
    least_year: int | None = None
    most_year: int | None = None

    @property
    def is_counted_whole(self) -> bool:
        """Whether the kept counts know how much it finds: they know nothing of words, kinds, tags and ranges."""
        return not self.text.strip() and finer(self) == Q()

    @property
    def order_fields(self) -> tuple[str, ...]:
        """Columns to sort by, each once, down to the key."""
        first = ORDERS.get(self.order, ORDERS["folder"])
        # Of the first choice, only what was chosen comes before the second.
        fields = (first[0], *ORDERS[self.then], *first[1:]) if self.then in ORDERS else first
        once: dict[str, str] = {}
        for field in (*fields, "pk"):
            once.setdefault(field.removeprefix("-"), field)
            if field.endswith("pk"):
                # Behind the key, nothing is equal any more.
                break
        ordered = tuple(once.values())
        return tuple(_turned(field) for field in ordered) if self.turned else ordered


def _turned(field: str) -> str:
    return field.removeprefix("-") if field.startswith("-") else f"-{field}"


def narrowed(sentence: Sentence) -> Q:
    """What the kept counts know of."""
    rows = Q()
    if sentence.folder is not None:
        rows &= Q(folder_id=sentence.folder)
    if sentence.format:
        both = [sentence.format, sentence.or_format] if sentence.or_format else []
        rows &= Q(format__in=both) if both else Q(format=sentence.format)
    if sentence.rate is not None:
        rows &= Q(sample_rate=sentence.rate)
    if sentence.fault == NONE:
        rows &= Q(fault="")
    elif sentence.fault == ANY:
        rows &= Q(fault__gt="")
    elif sentence.fault:
        rows &= Q(fault=sentence.fault)
    return rows


def _scaled(value: float | None, scale: float) -> float | None:
    return None if value is None else value * scale


def finer(sentence: Sentence) -> Q:
    """What the kept counts know nothing of."""
    rows = KINDS.get(sentence.kind, Q()) & HAS.get(sentence.has, Q()) & LACKS.get(sentence.lacks, Q())
    if sentence.added in ADDED:
        rows &= Q(added_at__gte=timezone.now() - datetime.timedelta(days=ADDED[sentence.added]))
    for name, value in (
        ("album", sentence.album or None), ("performer", sentence.performer or None), ("directory", sentence.directory),
        ("seconds__gte", sentence.least_seconds), ("seconds__lte", sentence.most_seconds),
        ("bitrate_bps__gte", sentence.least_kbps and sentence.least_kbps * 1000 - 500),
        ("bitrate_bps__lt", sentence.most_kbps and sentence.most_kbps * 1000 + 500),
        ("sample_rate__gte", _scaled(sentence.least_khz, 1000)), ("sample_rate__lte", _scaled(sentence.most_khz, 1000)),
        ("size_bytes__gte", _scaled(sentence.least_mb, 1_000_000)),
        ("size_bytes__lte", _scaled(sentence.most_mb, 1_000_000)),
        ("year__gte", sentence.least_year), ("year__lte", sentence.most_year),
    ):  # fmt: skip
        if value is not None:
            rows &= Q(**{name: value})
    if sentence.within.endswith("/"):
        # What begins with it lies between it and the name with the next character after the slash.
        rows &= Q(directory__gte=sentence.within, directory__lt=f"{sentence.within[:-1]}0")
    return rows
