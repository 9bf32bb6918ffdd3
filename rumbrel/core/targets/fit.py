"""How a track stands to a target, and why."""

import math
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from typing import Any

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.rewrap import Rewrap, rewrap_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import EncodeError
from rumbrel.core.formats.table import CODEC_BY_KEY, CONTAINER_BY_KEY
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import mix_matrix

from .model import Accepts, Target
from .planning import planned_shape

__all__ = ["BITRATE_SLACK", "SHORTEST_AVERAGE_SECONDS", "Fit", "FitKind", "fit_to"]


FLOAT_STANDS_FOR_BITS = 24
"""Depth that floating point and one bit sound, lossless but without whole bits, is kept at where a result must have one: that of its mantissa."""


BITRATE_SLACK = 1.02
"""So much above its limit a bitrate may be that was worked out from bytes and time: heads and padding count there
(our own choice)."""
SHORTEST_AVERAGE_SECONDS = 2.0
"""Below it an average bitrate means nothing yet: head and padding weigh too much (our own choice)."""


class FitKind(StrEnum):
    """How a track stands to a target. The words for it are the screens' and the commands' own."""

    PLAYS = "plays"
    REWRAP = "rewrap"
    CONVERT = "convert"
    CANNOT = "cannot"


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """How a track stands to a target, with all that was decided on the way.

    reason is a clause in the words of the target's device. rewrap is how the track is repackaged, where
    that will do. shape is what a conversion would make of it, None where there is no way; then refusal
    says why.
    """

    kind: FitKind
    reason: str
    rewrap: Rewrap | None = None
    shape: SoundShape | None = None
    refusal: str = ""


def _listed(values: tuple[object, ...], unit: str = "") -> str:
    words = [f"{value}" for value in values]
    joined = words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"
    return f"{joined}{unit}"


def _khz(rates: tuple[int, ...]) -> str:
    return _listed(tuple(f"{rate / 1000:g}" for rate in rates), " kHz")


_CHANNEL_WORDS = {1: "mono", 2: "stereo"}


def _wrapping(facts: Facts, row: Accepts) -> str | None:
    """What the row does not take about the container of a file whose codec is right."""
    if facts.container not in row.containers:
        codec, container = CODEC_BY_KEY[row.codec].label, CONTAINER_BY_KEY[row.containers[0]].label
        return f"wants {codec} in {container}" if codec != container else f"wants {codec} files"
    if facts.has_video and not row.video:
        return "takes sound without pictures"
    return None


def _objection(facts: Facts, row: Accepts, strict: bool) -> str | None:
    """The first thing about the sound of a file of the right codec that the row does not take."""
    slack = 1.0 if strict else BITRATE_SLACK
    # Over a moment, what an encoder spends on average says nothing.
    if facts.bitrate_mode != "constant" and facts.duration_seconds < SHORTEST_AVERAGE_SECONDS:
        slack = math.inf
    if row.sample_rates and facts.sample_rate not in row.sample_rates:
        return f"takes {row.format} at {_khz(row.sample_rates)}"
    if row.channels and facts.channels not in row.channels:
        return f"takes {_listed(tuple(_CHANNEL_WORDS.get(c, f'{c} channels') for c in row.channels))}"
    if row.bit_depths and facts.bit_depth is not None and facts.bit_depth not in row.bit_depths:
        return f"takes {_listed(row.bit_depths, ' bit')}"
    # Average bitrates are rarely round, so a file's may be 2 per cent above what it says it is.
    kbps = facts.bitrate_bps / 1000
    if row.max_bitrate_kbps is not None and kbps > row.max_bitrate_kbps * slack:
        return f"takes at most {row.max_bitrate_kbps} kbit/s"
    if row.modes and facts.bitrate_mode not in row.modes:
        return f"wants a {_listed(row.modes)} bitrate"
    if row.bitrates_kbps and not any(abs(kbps - wanted) < 0.5 for wanted in row.bitrates_kbps):
        return f"wants exactly {_listed(row.bitrates_kbps, ' kbit/s')}"
    if row.channel_modes and facts.channel_mode not in row.channel_modes:
        return f"wants {_listed(row.channel_modes)}"
    return None


def fit_to(facts: Facts, target: Target) -> Fit:
    """Judge one track against one target."""
    if not facts.usable:
        fatal = [fault for fault in facts.faults if not fault.harmless]
        text = fatal[0].text if fatal else "There is no sound in this file."
        return Fit(kind=FitKind.CANNOT, reason=text, refusal=text)
    shape = _shape(facts, target)
    refusal = _refusal(facts, target, shape)
    making: dict[str, Any] = {"refusal": refusal} if refusal else {"shape": shape}
    objections: list[str] = []
    whole = not facts.faults if target.strict else facts.ok
    for row in target.accepts:
        if row.codec != facts.codec:
            continue
        objection = _objection(facts, row, target.strict) or (None if whole else "the source has faults")
        wrapping = _wrapping(facts, row)
        if facts.is_part:
            objections.append(objection or "takes whole files, and this is a part of one")
            continue
        if objection is None and wrapping is None:
            return Fit(kind=FitKind.PLAYS, reason=f"{target.device} {target.verb} it as it is", **making)
        if objection is None and wrapping and not facts.lead_samples:
            rewrap = rewrap_for(facts.codec, facts.container, row.containers)
            # Of several streams one after another only the first would be repackaged.
            if rewrap is not None and not facts.links:
                return Fit(kind=FitKind.REWRAP, reason=f"{target.device} {wrapping}", rewrap=rewrap, **making)
        objections.append(objection or wrapping or "")
    if refusal:
        return Fit(kind=FitKind.CANNOT, reason=refusal, refusal=refusal)
    if objections:
        return Fit(kind=FitKind.CONVERT, reason=f"{target.device} {objections[0]}", **making)
    labels = tuple(dict.fromkeys(row.format for row in target.accepts))
    return Fit(kind=FitKind.CONVERT, reason=f"{target.device} takes {_listed(labels)} only", **making)


def _shape(facts: Facts, target: Target) -> SoundShape:
    """The shape a track is converted to for a target."""
    depth = FLOAT_STANDS_FOR_BITS if facts.lossless and facts.bit_depth is None else facts.bit_depth
    return planned_shape(target.make, sample_rate=facts.sample_rate, bit_depth=depth, channels=facts.channels)


def _refusal(facts: Facts, target: Target, shape: SoundShape) -> str:
    """Why the target's encoding cannot take the track, "" where it can."""
    return _request_refusal(target.make.encoding, shape, target.make.settings) or _mix_refusal(
        facts.channels, shape.channels, facts.speakers
    )


@lru_cache(maxsize=4096)
def _request_refusal(encoding: str, shape: SoundShape, settings: EncoderSettings) -> str:
    """Tracks of a collection ask for few shapes, very often."""
    try:
        encoding_for(encoding).check_request(shape, settings)
    except EncodeError as error:
        return str(error)
    return ""


@lru_cache(maxsize=1024)
def _mix_refusal(channels_in: int, channels_out: int, speakers: tuple[str, ...]) -> str:
    try:
        mix_matrix(channels_in, channels_out, speakers)
    except EncodeError as error:
        return str(error)
    return ""
