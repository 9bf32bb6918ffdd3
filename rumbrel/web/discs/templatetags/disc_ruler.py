"""A disc on the ruler, to be changed there: lengths that can be moved, notches that can be pulled wider."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django import template
from django.utils.html import escape
from django.utils.safestring import mark_safe

from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND, format_msf
from rumbrel.core.workflows.design_data import DataPlan
from rumbrel.web.ui.templatetags.ruler import Mark, mark_steps, minute_marks
from rumbrel.web.ui.words import NBSP

register = template.Library()

WIDTH = 1224
_HEIGHT, _TOP, _BASELINE = 76, 20, 60
_BODY = _BASELINE - _TOP - 2
_LABEL_WIDTH = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Length:
    """A track on the ruler, from and to in its units; notch is where the gap before it begins, None for the first.
    gap is that gap in sectors."""

    key: int
    label: str
    title: str
    start: float
    end: float
    notch: float | None = None
    gap: int = 0
    runs_on: bool = False


def _drawn_length(length: Length, position: int, edge: float, width: int) -> str:
    """What passes the edge is cut there and hatched."""
    parts = [(length.start, length.end, f'class="{"is-odd" if position % 2 else "is-even"}"')]
    if length.end > edge:
        parts = [(max(length.start, edge), length.end, f'class="is-over" fill="url(#over-{width})"')]
        if length.start < edge:
            parts.insert(0, (length.start, edge, f'class="{"is-odd" if position % 2 else "is-even"}"'))
    rects = "".join(
        f'<rect {style} x="{start:.2f}" y="{_TOP}" width="{max(0.6, end - start - 1):.2f}" height="{_BODY}"/>'
        for start, end, style in parts
    )
    title = escape(length.title)
    room = min(length.end, edge) - length.start if length.start < edge else length.end - length.start
    text = ""
    if room > _LABEL_WIDTH * len(length.label) + 4:
        text = f'<text x="{length.start:.2f}" y="{_TOP + _BODY / 2 + 4:g}" dx="5">{length.label}</text>'
    return f'<g class="length" data-key="{length.key}" data-name="{title}"><title>{title}</title>{rects}{text}</g>'


def _drawn_notch(length: Length) -> str:
    if length.notch is None:
        return ""
    join, said = "", f"gap before {length.label}"
    if length.runs_on:
        x, said = length.start, f"runs on into {length.label}"
        join = f'<line class="ruler-join" x1="{x - 5:.2f}" y1="{_TOP - 4}" x2="{x + 5:.2f}" y2="{_TOP - 4}"/>'
    grip = f'<rect class="notch-grip" x="{length.notch - 5:.2f}" y="0" width="{length.start - length.notch + 10:.2f}" height="{_TOP}"/>'
    tick = f'<line class="ruler-tick" x1="{length.notch:.2f}" y1="{_TOP - 6}" x2="{length.notch:.2f}" y2="{_TOP - 1}"/>'
    return (
        f'{join}<g class="notch" data-key="{length.key}" data-gap="{length.gap}"><title>{said}</title>{grip}{tick}</g>'
    )


def _drawn_mark(mark: Mark) -> str:
    long = 6 if mark.label else 3
    tick = f'<line class="ruler-tick" x1="{mark.x}" y1="{_BASELINE}" x2="{mark.x}" y2="{_BASELINE + long}"/>'
    if not mark.label:
        return tick
    return f'{tick}<text class="ruler-minute" x="{mark.x}" y="{_BASELINE + 14}" dx="3">{mark.label}</text>'


def _drawn(
    lengths: Sequence[Length], marks: Sequence[Mark], *, edge: float, width: int, name: str, scale: float
) -> str:
    """The ruler as SVG. It stands on a screen that is drawn anew with every change, so it is made without a template:
    of figures of ours, and of titles that are escaped."""
    hatch = (
        f'<defs><pattern id="over-{width}" width="6" height="6" patternUnits="userSpaceOnUse" '
        'patternTransform="rotate(45)"><line class="hatch" x1="0" y1="0" x2="0" y2="6"/></pattern></defs>'
    )
    parts = [
        f'<svg class="ruler disc-ruler" viewBox="0 0 {width + 16} {_HEIGHT}" role="img" aria-label="{escape(name)}" '
        f'preserveAspectRatio="none" data-sectors="{scale:.4f}">',
        hatch,
        *(_drawn_length(length, position, edge, width) for position, length in enumerate(lengths)),
        *map(_drawn_notch, lengths),
        f'<line class="ruler-line" x1="0" y1="{_BASELINE}" x2="{width}" y2="{_BASELINE}"/>',
        *map(_drawn_mark, marks),
        f'<line class="ruler-edge" x1="{edge:.2f}" y1="{_TOP - 6}" x2="{edge:.2f}" y2="{_BASELINE + 10}"/>',
        f'<line class="ruler-drop" x1="0" y1="4" x2="0" y2="{_BASELINE}" visibility="hidden"/></svg>',
    ]
    return mark_safe("".join(parts))  # noqa: S308 - every text in it was escaped above


@register.simple_tag
def design_ruler(layout: DiscLayout, keys: Sequence[int], width: int = WIDTH) -> str:
    """Tracks at their addresses against the medium's end; keys are the tracks' own."""
    capacity = layout.medium.capacity_sectors
    end = max(layout.total_sectors, capacity, 60 * SECTORS_PER_SECOND) * 1.005
    scale = width / end
    lengths = [
        Length(
            key=key, label=str(track.number), start=track.start_sector * scale, end=track.end_sector * scale,
            title=f"{track.number} {track.programme.title}, {format_msf(track.sectors)}",
            notch=(track.start_sector - track.gap_sectors) * scale if position else None, gap=track.gap_sectors,
            runs_on=track.runs_on,
        )
        for position, (track, key) in enumerate(zip(layout.tracks, keys, strict=True))
    ]  # fmt: skip
    tracks = "1 track" if len(lengths) == 1 else f"{len(lengths)} tracks"
    return _drawn(
        lengths, minute_marks(end / SECTORS_PER_SECOND, width), edge=capacity * scale, width=width,
        name=f"{tracks} on the {layout.medium.label}", scale=end / width,
    )  # fmt: skip


@register.simple_tag
def data_ruler(plan: DataPlan, width: int = WIDTH) -> str:
    """Files one after another in bytes against the blank's end."""
    capacity = plan.medium.capacity_sectors
    end = max(plan.total_sectors, capacity) * 1.005
    scale, at, lengths = width / end, 0, []
    for row in plan.rows:
        if row.sectors:
            lengths.append(
                Length(
                    key=row.design.key, label=str(row.number), start=at * scale, end=(at + row.sectors) * scale,
                    title=f"{row.number} {row.file.title}, {row.file.size_bytes / 1e6:,.1f}{NBSP}MB",
                )
            )  # fmt: skip
            at += row.sectors
    files = "1 file" if len(lengths) == 1 else f"{len(lengths)} files"
    return _drawn(
        lengths, _byte_marks(end * 2048 / 1e6, width), edge=capacity * scale, width=width,
        name=f"{files} on the {plan.medium.label}, in MB", scale=0.0,
    )  # fmt: skip


@register.simple_tag
def write_ruler(share: float, shares: Mapping[str, tuple[float, float]], width: int = WIDTH) -> str:
    """The steps of a write on one ruler, by the share of the whole that each is, and how far it is."""
    done = round(min(1.0, max(0.0, share or 0.0)) * width, 1)
    places = [(name, start) for name, (start, end) in shares.items() if end - start > _LEAST_NAMED]
    texts = "".join(
        f'<text class="ruler-minute" x="{start * width:.1f}" y="34" dx="3">{_STEP_WORDS.get(name, name)}</text>'
        for name, start in places
    )
    ends = sorted({0.0, 1.0, *(end for _, end in shares.values())})
    marks = "".join(
        f'<line class="ruler-tick" x1="{at * width:.1f}" y1="4" x2="{at * width:.1f}" y2="30"/>' for at in ends
    )
    said = f"{round(100 * done / width)} % of the write"
    return mark_safe(  # noqa: S308 - figures and words of ours alone
        f'<svg class="ruler write-ruler" viewBox="0 0 {width + 16} 40" role="img" aria-label="{said}">'
        f'<rect class="work-done" x="0" y="8" width="{done}" height="12"/>'
        f'<line class="ruler-line" x1="0" y1="24" x2="{width}" y2="24"/>{marks}{texts}</svg>'
    )


_STEP_WORDS = {"making ready": "made ready", "writing": "tracks", "reading back": "read back"}
_LEAST_NAMED = 0.04
"""A step that is a smaller part of the whole has no room for its name."""


def _byte_marks(megabytes: float, width: int) -> list[Mark]:
    step = mark_steps(megabytes, (10, 20, 50, 100, 200, 500))
    return [
        Mark(x=round(value / megabytes * width, 2), label=str(value)) for value in range(0, int(megabytes) + 1, step)
    ]
