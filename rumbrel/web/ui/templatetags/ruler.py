"""The ruler and the groove: time, work and bytes as ruled strips, drawn as SVG on the server."""

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from django import template

from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.targets import FitKind
from rumbrel.web.collection.models import Track
from rumbrel.web.targets.services import Standing

register = template.Library()

WIDTH = 1224
MARK_STEPS_MINUTES = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600)
MOST_NUMBERS = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class Length:
    """A length on the ruler, in its own width units. over says that it lies beyond the edge."""

    x: float
    width: float
    label: str
    title: str
    odd: bool
    over: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    x: float
    label: str


def _marks(end_seconds: float, width: float) -> list[Mark]:
    step = next((m for m in MARK_STEPS_MINUTES if end_seconds / 60 / m <= MOST_NUMBERS), MARK_STEPS_MINUTES[-1])
    small = max(step / 5, end_seconds / 60 / 300)
    count = int(end_seconds / 60 / small)
    marks = []
    for number in range(count + 1):
        minute = number * small
        numbered = math.isclose(minute % step, 0, abs_tol=1e-6) or math.isclose(minute % step, step, abs_tol=1e-6)
        marks.append(Mark(x=round(minute * 60 / end_seconds * width, 2), label=f"{minute:.0f}" if numbered else ""))
    return marks


def _drawn(
    spans: Sequence[tuple[float, float, str, str]], edge_seconds: float | None, width: float, height: int, name: str
) -> dict[str, object]:
    """spans are (start, end, label, title) in seconds; what passes the edge is cut there and hatched."""
    last = max((end for _, end, _, _ in spans), default=0.0)
    scale_end = max(last, edge_seconds or 0.0, 60.0) * 1.005
    lengths = []
    for number, (start, end, label, title) in enumerate(spans):
        pieces = [(start, end, False)]
        if edge_seconds is not None and end > edge_seconds:
            pieces = [(max(start, edge_seconds), end, True)]
            if start < edge_seconds:
                pieces.insert(0, (start, edge_seconds, False))
        for place, (a, b, over) in enumerate(pieces):
            span = (b - a) / scale_end * width
            shown = label if place == 0 and span > 8 * len(label) + 6 else ""
            lengths.append(
                Length(
                    x=round(a / scale_end * width, 2),
                    width=round(max(0.6, span - 1), 2),
                    label=shown,
                    title=title,
                    odd=bool(number % 2),
                    over=over,
                )
            )
    return {
        "width": width,
        "height": height,
        "baseline": height - 14,
        "lengths": lengths,
        "marks": _marks(scale_end, width),
        "edge": round(edge_seconds / scale_end * width, 2) if edge_seconds is not None else None,
        "name": name,
    }


@register.inclusion_tag("components/ruler.html")
def disc_ruler(layout: DiscLayout) -> dict[str, object]:
    """Tracks at their addresses against the medium's end."""
    spans = [
        (t.start_sector / SECTORS_PER_SECOND, t.end_sector / SECTORS_PER_SECOND, str(t.number), t.programme.title)
        for t in layout.tracks
    ]
    edge = layout.medium.capacity_sectors / SECTORS_PER_SECOND
    return _drawn(spans, edge, WIDTH, 58, f"{len(spans)} tracks on the {layout.medium.label}")


@register.inclusion_tag("components/ruler.html")
def tracks_ruler(tracks: Sequence[Track], edge_seconds: float | None = None, width: int = 640) -> dict[str, object]:
    """Tracks end to end."""
    spans, at = [], 0.0
    for track in tracks:
        spans.append((at, at + track.seconds, "", track.title))
        at += track.seconds
    return _drawn(spans, edge_seconds, width, 36, f"{len(spans)} tracks, {at / 60:.0f} minutes")


@register.inclusion_tag("components/ruler.html")
def lengths_ruler(lengths: Sequence[float], edge_seconds: float | None = None, width: int = WIDTH) -> dict[str, object]:
    """Bare lengths in seconds, for the gallery."""
    spans, at = [], 0.0
    for number, seconds in enumerate(lengths, 1):
        spans.append((at, at + seconds, str(number), f"Length {number}"))
        at += seconds + 2
    return _drawn(spans, edge_seconds, width, 58, f"{len(spans)} lengths")


@register.inclusion_tag("components/work_ruler.html")
def work_ruler(done: float, total: float, width: int = 110) -> dict[str, object]:
    """Work done against work planned, both in seconds of sound."""
    share = min(1.0, done / total) if total else 0.0
    step = width / 10
    return {
        "width": width,
        "done": round(share * width, 1),
        "percent": round(share * 100),
        "ticks": [round(step * number + 0.5, 1) for number in range(11)],
    }


@register.inclusion_tag("components/groove.html")
def groove(rings: Sequence[tuple[float, float, int]], edge_mm: float) -> dict[str, object]:
    """Where each track lies: rings between radii in mm, on a disc of 60 mm."""
    drawn = [
        {"r": round((inner + outer) / 2, 3), "width": round(max(0.15, outer - inner - 0.12), 3), "odd": bool(number % 2),
         "over": outer > edge_mm, "number": number}
        for inner, outer, number in rings
    ]  # fmt: skip
    return {"rings": drawn, "edge": round(edge_mm, 2)}


STRIP_WIDTH = 480
_WIDEST_MARK = 30
_MOST_MARKS = 160


@register.inclusion_tag("components/fit_strip.html")
def fit_strip(standing: Standing) -> dict[str, object]:
    """A mark for each track, whose shape says how it stands to the target.

    Where there are more tracks than marks that can be told apart, a mark stands for several
    neighbours and shows what most of them are.
    """
    fits = standing.fits
    each = max(1, math.ceil(len(fits) / _MOST_MARKS))
    groups = [fits[start : start + each] for start in range(0, len(fits), each)]
    pitch = min(_WIDEST_MARK, STRIP_WIDTH / max(1, len(groups)))
    marks = []
    for number, group in enumerate(groups):
        x, width = number * pitch + 0.5, max(0.6, pitch - min(3, pitch / 3))
        kind = Counter(fit.kind for _, fit in group).most_common(1)[0][0]
        track, fit = group[0]
        title = f"{track.title}: {fit.kind}, {fit.reason}" if each == 1 else f"{track.title} and {len(group) - 1} more"
        marks.append(
            {"x": round(x, 2), "width": round(width, 2), "end": round(x + width, 2), "kind": str(kind), "title": title}
        )
    counts = ", ".join(f"{n} {kind}" for kind, n in zip(FitKind, standing.counts, strict=True) if n)
    return {"marks": marks, "width": STRIP_WIDTH, "name": f"{standing.target.name}: {counts}"}
