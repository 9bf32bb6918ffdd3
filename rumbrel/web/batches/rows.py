"""Steps and items as screens show them."""

from dataclasses import dataclass

from rumbrel.core.forecast import Action, Step
from rumbrel.core.formats.table import format_label
from rumbrel.web.ui.words import ACTION_WORDS

__all__ = ["ForecastRow", "after_text", "forecast_row", "now_text", "shared_reason"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastRow:
    """A line of the forecast: facts now and after, sizes in bytes, and why."""

    title: str
    step: Step
    word: str
    now: str
    after: str
    bytes_after: int


def forecast_row(step: Step, title: str) -> ForecastRow:
    return ForecastRow(
        title=title,
        step=step,
        word=ACTION_WORDS[step.action].replace("plays", step.target.verb, 1),
        now=now_text(step),
        after=after_text(step),
        bytes_after=step.after.size_bytes if step.after and step.writes else 0,
    )


def now_text(step: Step) -> str:
    facts = step.source
    if not facts.codec:
        return "–"
    label = format_label(facts.container, facts.codec)
    return _sound_text(label, facts.sample_rate, facts.bit_depth, facts.bitrate_bps)


def after_text(step: Step) -> str:
    after = step.after
    if after is None or step.action is Action.REFUSE:
        return "–"
    return _sound_text(after.format, after.sample_rate, after.bit_depth, after.bitrate_bps)


def _sound_text(label: str, rate_hz: int, depth_bits: int | None, bitrate_bps: int) -> str:
    depth = f"/{depth_bits}" if depth_bits else ""
    return f"{label} {rate_hz / 1000:g}{depth} {round(bitrate_bps / 1000):,}"


def shared_reason(reasons: list[str]) -> str:
    """The reason that most lines share, said once above them; "" where none is shared by half of them."""
    if len(reasons) < 4:
        return ""
    commonest = max(set(reasons), key=reasons.count)
    return commonest if reasons.count(commonest) * 2 > len(reasons) else ""
