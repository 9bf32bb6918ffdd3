"""How figures are written on every screen."""

from django import template

from rumbrel.core.disc.red_book import format_msf

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
    """Units of 1,000,000 bytes with one decimal."""
    return f"{(size or 0) / 1e6:,.1f}"


@register.filter
def bytes_text(size: int | None) -> str:
    """A size with its unit: kB, MB or GB."""
    value = size or 0
    for limit, unit in ((1e9, "GB"), (1e6, "MB")):
        if value >= limit:
            return f"{value / limit:.{2 if unit == 'GB' else 1}f} {unit}"
    return f"{value / 1e3:.0f} kB"


@register.filter
def khz(rate: int) -> str:
    return f"{rate / 1000:g}" if rate else "–"


@register.filter
def thousands(value: int) -> str:
    return f"{value:,}"


@register.filter
def msf(sectors: int) -> str:
    """m:ss:ff of a count of sectors, without its sign."""
    return format_msf(abs(sectors))


@register.filter
def get(mapping: dict, key: object) -> object:
    return mapping.get(key)


@register.filter
def share_of(part: float, whole: float) -> float:
    """0 to 100."""
    return round(100 * part / whole, 2) if whole else 0


@register.inclusion_tag("components/bar.html")
def bar(part: float, whole: float, kind: str = "plain") -> dict[str, object]:
    """A thin bar of a length; kind is plain, now or after."""
    return {"width": max(0.5, 100 * part / whole) if part and whole else 0, "kind": kind}


@register.inclusion_tag("components/now_after.html")
def now_after(now: float, after: float, largest: float) -> dict[str, object]:
    """The source's size over the result's, on one scale for the whole table."""
    scale = lambda value: max(0.5, 100 * value / largest) if value and largest else 0  # noqa: E731
    return {"now": scale(now), "after": scale(after)}


@register.filter
def split_words(text: str) -> list[str]:
    return text.split()
