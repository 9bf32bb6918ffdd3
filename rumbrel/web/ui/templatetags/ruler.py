"""The ruler and its companions: time, work and fits as ruled strips, drawn as SVG on the server."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django import template

register = template.Library()

WIDTH = 1224
MARK_STEPS_MINUTES = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 3000, 6000, 12000)
MOST_NUMBERS = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class Length:
    """A length on the ruler, in its own width units. over says that it lies beyond the edge; kind names a pattern of its
    own, "" for the two that take turns."""

    x: float
    width: float
    label: str
    title: str
    odd: bool
    over: bool
    kind: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    x: float
    label: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """What a length stands for: from and to in seconds."""

    start: float
    end: float
    label: str = ""
    title: str = ""
    kind: str = ""


def mark_steps(length: float, steps: Sequence[int], most: int = MOST_NUMBERS) -> int:
    """The smallest step at which a length has no more numbers than there is room for."""
    return next((step for step in steps if length / step <= most), steps[-1])


def minute_marks(end_seconds: float, width: float) -> list[Mark]:
    """Ticks of a ruler in minutes, some of them numbered."""
    step = mark_steps(end_seconds / 60, MARK_STEPS_MINUTES, MOST_NUMBERS if width > 700 else 8)
    small = max(step / 5, end_seconds / 60 / 300)
    count = int(end_seconds / 60 / small)
    marks = []
    for number in range(count + 1):
        minute = number * small
        numbered = math.isclose(minute % step, 0, abs_tol=1e-6) or math.isclose(minute % step, step, abs_tol=1e-6)
        marks.append(Mark(x=round(minute * 60 / end_seconds * width, 2), label=f"{minute:.0f}" if numbered else ""))
    return marks


_MARK_STEPS_BYTES = tuple(step * 10**power for power in range(3, 14) for step in (1, 2, 5))


BYTE_KINDS = {"plays": "plays", "refused": "does not play", "others": "other files", "stays": "stays", "comes": "comes"}
"""What lies on a volume or comes onto it, in words."""


def byte_marks(end_bytes: float, width: float) -> list[Mark]:
    """Ticks of a ruler in bytes, numbered in kB, MB or GB."""
    step = mark_steps(end_bytes, _MARK_STEPS_BYTES, MOST_NUMBERS if width > 700 else 6)
    scale, unit = next((s, u) for s, u in ((1e9, "GB"), (1e6, "MB"), (1.0, "bytes")) if end_bytes >= s)
    marks = []
    for number in range(int(end_bytes / step * 5) + 1):
        x = number * step / 5 / end_bytes * width
        # A number that would pass the strip's end is left out.
        numbered = number % 5 == 0 and x < width - 45
        marks.append(
            Mark(
                x=round(x, 2),
                label=("0" if not number else f"{number * step / 5 / scale:g} {unit}") if numbered else "",
            )
        )
    return marks


def _drawn(
    spans: Sequence[Span],
    edge_seconds: float | None,
    width: float,
    height: int,
    name: str,
    marks: Callable[[float, float], list[Mark]] = minute_marks,
) -> dict[str, object]:
    """What passes the edge is cut there and hatched. Bytes are drawn as seconds are, with marks of their own."""
    last = max((span.end for span in spans), default=0.0)
    scale_end = max(last, edge_seconds or 0.0, 60.0) * 1.005
    lengths = []
    for number, span in enumerate(spans):
        pieces = [(span.start, span.end, False)]
        if edge_seconds is not None and span.end > edge_seconds:
            pieces = [(max(span.start, edge_seconds), span.end, True)]
            if span.start < edge_seconds:
                pieces.insert(0, (span.start, edge_seconds, False))
        for part, (start, end, over) in enumerate(pieces):
            drawn = (end - start) / scale_end * width
            shown = span.label if part == 0 and drawn > 8 * len(span.label) + 6 else ""
            lengths.append(
                Length(
                    x=round(start / scale_end * width, 2),
                    width=round(max(0.6, drawn - 1), 2),
                    label=shown,
                    title=span.title,
                    odd=bool(number % 2),
                    over=over,
                    kind=span.kind,
                )
            )
    return {
        "width": width,
        "height": height,
        "baseline": height - 14,
        "lengths": lengths,
        "marks": marks(scale_end, width),
        "edge": round(edge_seconds / scale_end * width, 2) if edge_seconds is not None else None,
        "name": name,
    }


def _said(count: int) -> str:
    return "1 track" if count == 1 else f"{count:,} tracks"


@register.inclusion_tag("components/ruler.html")
def strip_ruler(
    strip: Sequence[tuple[float, int, str]],
    count: int,
    edge_seconds: float | None = None,
    width: int = 640,
    *,
    numbered: bool = False,
) -> dict[str, object]:
    """Lengths end to end: (seconds, how many tracks it stands for, their title if it is one); numbered says so on
    each that stands for one."""
    spans, at = [], 0.0
    for number, (seconds, tracks, title) in enumerate(strip, 1):
        label = str(number) if numbered and tracks == 1 else ""
        spans.append(Span(start=at, end=at + seconds, label=label, title=title or _said(tracks)))
        at += seconds
    return _drawn(spans, edge_seconds, width, 58 if numbered else 36, f"{_said(count)}, {at / 60:.0f} minutes")


@register.inclusion_tag("components/ruler.html")
def bytes_ruler(
    lengths: Sequence[tuple[int, str, str, str]], edge_bytes: int, name: str, width: int = WIDTH
) -> dict[str, object]:
    """Bytes end to end, (how many, label, title, kind), on a volume that ends at an edge. Each kind has its pattern, which
    the words below the ruler name with their sum; kinds are one of BYTE_KINDS."""
    spans, at = [], 0
    sums: dict[str, int] = {}
    for size, label, title, kind in lengths:
        spans.append(Span(start=at, end=at + size, label=label, title=title, kind=kind))
        sums[kind] = sums.get(kind, 0) + size
        at += size
    key = [(kind, BYTE_KINDS[kind], total) for kind, total in sums.items() if total]
    return _drawn(spans, edge_bytes, width, 58, name, byte_marks) | {"key": key}


@register.inclusion_tag("components/ruler.html")
def volume_ruler(used_bytes: int, capacity_bytes: int, name: str, width: int = WIDTH) -> dict[str, object]:
    """How full a volume is, with its end."""
    spans = [Span(start=0, end=used_bytes, label="", title=f"{name}: in use")] if used_bytes else []
    return _drawn(spans, capacity_bytes, width, 36, f"How full {name} is", byte_marks)


@register.inclusion_tag("components/ruler.html")
def lengths_ruler(lengths: Sequence[float], edge_seconds: float | None = None, width: int = WIDTH) -> dict[str, object]:
    """Bare lengths in seconds, for the gallery."""
    spans, at = [], 0.0
    for number, seconds in enumerate(lengths, 1):
        spans.append(Span(start=at, end=at + seconds, label=str(number), title=f"Length {number}"))
        at += seconds + 2
    return _drawn(spans, edge_seconds, width, 58, f"{len(spans)} lengths")


@register.inclusion_tag("components/work_ruler.html")
def work_ruler(share: float, width: int = 110) -> dict[str, object]:
    """Work done against work planned, 0.0 to 1.0."""
    share = min(1.0, max(0.0, share or 0.0))
    step = width / 10
    return {
        "width": width,
        "done": round(share * width, 1),
        "percent": round(share * 100),
        "ticks": [round(step * number + 0.5, 1) for number in range(11)],
    }


@register.inclusion_tag("components/fill_ruler.html")
def fill_ruler(seconds: float, room_seconds: float) -> dict[str, object]:
    """How much of a medium a sound fills, with the medium's end where it is: the whole strip is the longer of both."""
    width = 130
    scale = width / max(seconds, room_seconds, 1.0)
    return {
        "width": width,
        "inside": round(min(seconds, room_seconds) * scale, 2),
        "over": round(max(0.0, seconds - room_seconds) * scale, 2),
        "edge": round(room_seconds * scale, 2),
        "free_seconds": room_seconds - seconds,
        "over_seconds": seconds - room_seconds,
    }


@register.inclusion_tag("components/groove.html")
def groove(
    rings: Sequence[tuple[float, float, int, int]], edge_mm: float, done_mm: float | None = None
) -> dict[str, object]:
    """Where each track lies: rings between radii in mm, on a disc of 60 mm. done_mm is how far out a write has come;
    without it all is shown alike."""
    done = [
        {"r": round((inner + min(outer, done_mm)) / 2, 3), "width": round(max(0.05, min(outer, done_mm) - inner - 0.12), 3)}
        for inner, outer, _, _ in rings if done_mm is not None and inner < done_mm
    ]  # fmt: skip
    drawn = [
        {"r": round((inner + outer) / 2, 3), "width": round(max(0.15, outer - inner - 0.12), 3), "odd": bool(number % 2),
         "over": outer > edge_mm, "number": number, "key": key}
        for inner, outer, number, key in rings
    ]  # fmt: skip
    return {"rings": drawn, "edge": round(edge_mm, 2), "done": done, "waits": done_mm is not None}


STRIP_WIDTH = 480
_WIDEST_MARK = 30
# A full mark, a ringed one, a low one, a crossed one.
_MARKS = {
    "plays": "M{x} 3h{width}v15h-{width}z",
    "rewrap": "M{x} 4h{width}v13h-{width}z",
    "convert": "M{x} 12h{width}v6h-{width}z",
    "cannot": "M{x} 4L{end} 17M{end} 4L{x} 17",
}


@register.inclusion_tag("components/fit_strip.html")
def fit_strip(marks: Sequence[str], name: str) -> dict[str, object]:
    """A mark for each track, or for some neighbours, whose shape says how it stands to the target."""
    pitch = min(_WIDEST_MARK, STRIP_WIDTH / max(1, len(marks)))
    width = max(0.6, pitch - min(3, pitch / 3))
    paths: dict[str, list[str]] = {}
    for number, kind in enumerate(marks):
        x = round(number * pitch + 0.5, 2)
        paths.setdefault(kind, []).append(_MARKS[kind].format(x=x, end=round(x + width, 2), width=round(width, 2)))
    return {"paths": [(kind, " ".join(drawn)) for kind, drawn in paths.items()], "width": STRIP_WIDTH, "name": name}


SHARE_WIDTH = 1224.0
SHARE_HEIGHT = 44
_LEAST_PART = 2.0
_LETTER_WIDTH = 7.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A part of a strip: where it lies in its width units, what stands in it, and where it leads."""

    x: float
    width: float
    label: str
    title: str
    address: str
    odd: bool


def parts_of(shares: Sequence[tuple[str, str, float, str]]) -> list[Part]:
    """Shares (label, address, amount, title) side by side on the whole width.

    A share too small to be seen is drawn as wide as can be pressed, at the cost of the others; its label stands only
    where it fits.
    """
    kept = [share for share in shares if share[2] > 0]
    whole = sum(amount for _, _, amount, _ in kept)
    if not kept:
        return []
    free = SHARE_WIDTH - _LEAST_PART * len(kept)
    parts, x = [], 0.0
    for number, (label, address, amount, title) in enumerate(kept):
        width = _LEAST_PART + max(0.0, free) * amount / whole
        shown = label if width > 10 + _LETTER_WIDTH * len(label) else ""
        parts.append(
            Part(x=round(x, 2), width=round(width, 2), label=shown, title=title, address=address, odd=number % 2 == 1)
        )
        x += width
    return parts


@register.inclusion_tag("components/share_strip.html")
def share_strip(shares: Sequence[tuple[str, str, float, str]], name: str) -> dict[str, object]:
    """A whole as one strip, each part of which leads to what it stands for."""
    return {"parts": parts_of(shares), "width": SHARE_WIDTH, "height": SHARE_HEIGHT, "name": name}
