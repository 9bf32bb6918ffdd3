"""Targets as screens show them."""

from dataclasses import dataclass

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.targets import Accepts, FitKind, Target
from rumbrel.web.ui.words import FIT_WORDS

from .standing import FIT_KINDS, Standing

__all__ = ["StandingRow", "TargetRow", "standing_row", "target_row"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetRow:
    """What a target accepts, a line each, and what it makes otherwise."""

    target: Target
    accepts: tuple[str, ...]
    makes: str


def target_row(target: Target) -> TargetRow:
    return TargetRow(target=target, accepts=tuple(_accepted(row) for row in target.accepts), makes=_made(target))


def _accepted(row: Accepts) -> str:
    parts = [row.format]
    if row.sample_rates:
        parts.append("/".join(f"{rate / 1000:g}" for rate in row.sample_rates) + " kHz")
    if row.max_bitrate_kbps:
        parts.append(f"up to {row.max_bitrate_kbps} kbit/s")
    parts += [f"exactly {kbps} kbit/s" for kbps in row.bitrates_kbps]
    return ", ".join(parts)


def _made(target: Target) -> str:
    settings = target.make.settings
    words = [encoding_for(target.make.encoding).label]
    if settings.bitrate_kbps:
        words.append(f"{settings.bitrate_kbps} kbit/s")
    if settings.mode:
        words.append(settings.mode)
    text = " ".join(words)
    return f"{text}, high-pass {target.make.highpass_hz:g} Hz" if target.make.highpass_hz else text


@dataclass(frozen=True, slots=True, kw_only=True)
class StandingRow:
    """A target's strip, and (fit, tracks, seconds) of each fit: name says it in words for those who do not see the marks."""

    target: Target
    marks: tuple[str, ...]
    counts: tuple[tuple[FitKind, int, float], ...]
    name: str


def standing_row(standing: Standing) -> StandingRow:
    said = ", ".join(
        f"{number} {FIT_WORDS[kind]}" for kind, number in zip(FIT_KINDS, standing.counts, strict=True) if number
    )
    return StandingRow(
        target=standing.target,
        marks=tuple(str(kind) for kind in standing.marks),
        counts=tuple(zip(FIT_KINDS, standing.counts, standing.seconds, strict=True)),
        name=f"{standing.target.name}: {said}",
    )
