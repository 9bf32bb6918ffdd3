"""How figures are written on every screen."""

from datetime import datetime

from django import template
from django.core.paginator import Page
from django.forms import BoundField
from django.template import Context
from django.utils.html import format_html
from django.utils.timesince import timesince

from rumbrel.core.disc.red_book import format_msf, spoken_time
from rumbrel.core.targets import FitKind, Target

from .. import words
from ..words import NBSP

register = template.Library()


@register.filter
def clock(seconds: float | None) -> str:
    """m:ss, or h:mm:ss from an hour on."""
    if seconds is None:
        return "?"
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    minutes, secs = divmod(rest, 60)
    return f"{hours}:{minutes:02d}:{secs:02d}" if hours else f"{minutes}:{secs:02d}"


@register.filter
def megabytes(size: int | None) -> str:
    """Units of 1,000,000 bytes with one decimal; with three where one would leave nothing."""
    value = (size or 0) / 1e6
    return f"{value:.3f}" if 0 < value < 0.05 else f"{value:,.1f}"


@register.filter
def kilobytes(size: int | None) -> str:
    """Units of 1,000 bytes, whole."""
    return f"{round((size or 0) / 1000):,}"


@register.filter
def bytes_text(size: int | None) -> str:
    """A size with its unit: kB, MB or GB."""
    value = size or 0
    for limit, unit in ((1e9, "GB"), (1e6, "MB")):
        if value >= limit:
            return f"{value / limit:.{2 if unit == 'GB' else 1}f}{NBSP}{unit}"
    return f"{value / 1e3:.0f}{NBSP}kB"


@register.filter
def text_of(path: object) -> str:
    """A path as text that a page can hold: bytes that are no UTF-8 are shown as a mark."""
    return str(path).encode("utf-8", "replace").decode()


@register.filter
def ago(moment: datetime) -> str:
    """How long ago, in its largest unit: just now, 3 minutes ago."""
    past = timesince(moment, depth=1)
    return "just now" if past.startswith("0") else f"{past} ago"


@register.filter
def percent(share: float) -> str:
    return f"{share:.0%}"


@register.filter
def share_of(part: float, whole: float) -> str:
    """For drawings, whose lengths are shares of their width."""
    return f"{100 * part / whole:.2f}%"


@register.filter
def khz(rate: int) -> str:
    return f"{rate / 1000:g}" if rate else "–"


@register.filter
def kbps(bitrate_bps: int) -> str:
    """Units of 1,000 bits/s, whole."""
    return f"{round(bitrate_bps / 1000):,}" if bitrate_bps else "–"


@register.filter
def undo_address(tags: str) -> str:
    """Where a message's undo is posted to; "" where it has none (see answers.undo)."""
    return next((tag.removeprefix("undo:") for tag in tags.split() if tag.startswith("undo:")), "")


@register.filter
def thousands(value: int) -> str:
    return f"{value:,}"


@register.filter
def msf(sectors: int) -> str:
    """m:ss:ff of a count of sectors, without its sign."""
    return format_msf(abs(sectors))


@register.filter
def spoken(sectors: int) -> str:
    """A length in words: 1 min 8 s."""
    return spoken_time(sectors)


@register.filter
def level(value: float | None, places: int = 0) -> str:
    """A level, a loudness or a difference with a true minus; nothing where there is none."""
    if value is None:
        return ""
    text = f"{value:.{places}f}"
    return (text if float(text) else text.lstrip("-")).replace("-", "−")


@register.filter
def minus(text: str) -> str:
    """A figure that was formatted already, with a true minus."""
    return text.replace("-", "−")


@register.filter
def signed(decibels: float) -> str:
    """With its sign and one decimal."""
    return "0.0" if abs(decibels) < 0.05 else f"{decibels:+.1f}".replace("-", "−")


_BAR = (
    '<svg class="bar" viewBox="0 0 100 6" preserveAspectRatio="none" aria-hidden="true">'
    '<line x1="0" y1="5.5" x2="100" y2="5.5"/><rect x="0" y="0" width="{}" height="5"/></svg>'
)


@register.simple_tag
def bar(part: float, whole: float) -> str:
    """A thin bar of a length. It stands in every row, so it is made without a template of its own."""
    return format_html(_BAR, round(max(0.5, 100 * part / whole), 2) if part and whole else 0)


@register.inclusion_tag("components/now_after.html")
def now_after(now: float, after: float, largest: float) -> dict[str, object]:
    """The source's size over the result's, on one scale for the whole table."""
    scale = lambda value: max(0.5, 100 * value / largest) if value and largest else 0  # noqa: E731
    return {"now": scale(now), "after": scale(after)}


@register.filter
def fit_words(kind: FitKind, target: Target) -> str:
    """What a fit is called for a target."""
    return words.fit_word(kind, target)


@register.filter
def of_key(table: dict[object, object], key: object) -> object:
    return table.get(key, "")


@register.filter
def split_words(text: str) -> list[str]:
    return text.split()


@register.simple_tag
def counted(number: int, noun: str, plural: str = "") -> str:
    """1 track, 2 tracks."""
    return words.counted(number, noun, plural)


@register.filter
def fault_words(code: str) -> str:
    """A fault's code as words."""
    return code.replace("-", " ")


@register.inclusion_tag("components/choice.html")
def choice(field: BoundField) -> dict[str, object]:
    """A choice inside a sentence: the field as a select that takes effect at once."""
    chosen = field.value()
    options = [
        (value, label, str(value) == str("" if chosen is None else chosen)) for value, label in field.field.choices
    ]
    return {"name": field.html_name, "id": field.id_for_label, "label": field.label, "options": options}


@register.simple_tag
def amount(field: BoundField) -> str:
    """A number inside a sentence; empty leaves it open."""
    return format_html(
        '<input class="amount" type="number" step="any" min="0" name="{}" id="{}" aria-label="{}" value="{}" placeholder="any">',
        field.html_name, field.id_for_label, field.label, field.value() or "",
    )  # fmt: skip


@register.inclusion_tag("components/pages.html", takes_context=True)
def pages(context: Context, page: Page) -> dict[str, object]:
    """Links to the pages before and behind, which keep all other choices."""
    return {"page": page, "request": context["request"]}
