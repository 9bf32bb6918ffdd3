"""How a track stands to a target, and why."""

import math
from dataclasses import dataclass
from enum import StrEnum

from rumbrel.core.errors import EncodeError
from rumbrel.core.formats.encodings import encoding_for
from rumbrel.core.formats.rewrap import Rewrap, rewrap_for
from rumbrel.core.formats.table import CODEC_BY_KEY, CONTAINER_BY_KEY
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import mix_matrix

from .model import Accepts, Target
from .planning import planned_shape

__all__ = ["Fit", "FitKind", "fit_to", "rewrap_to", "shape_for"]


FLOAT_STANDS_FOR_BITS = 24
"""Depth that floating point and one bit sound, lossless but without whole bits, is kept at where a result must have one: that of its mantissa."""


_SHORTEST_AVERAGE_SECONDS = 2.0


class FitKind(StrEnum):
    PLAYS = "plays as is"
    REWRAP = "re-wrap"
    CONVERT = "convert"
    CANNOT = "cannot"


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """kind with its reason as a clause, in the words of the target's device."""

    kind: FitKind
    reason: str


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
    slack = 1.0 if strict else 1.02
    # Over a moment, what an encoder spends on average says nothing.
    if facts.bitrate_mode != "constant" and facts.duration_seconds < _SHORTEST_AVERAGE_SECONDS:
        slack = math.inf
    if row.sample_rates and facts.sample_rate not in row.sample_rates:
        return f"takes {row.kind} at {_khz(row.sample_rates)}"
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
        fatal = [p for p in facts.problems if not p.harmless]
        return Fit(kind=FitKind.CANNOT, reason=fatal[0].text if fatal else "There is no sound in this file.")
    objections = []
    whole = not facts.problems if target.strict else facts.ok
    for row in target.accepts:
        if row.codec != facts.codec:
            continue
        objection = _objection(facts, row, target.strict) or (None if whole else "the source has faults")
        wrapping = _wrapping(facts, row)
        if objection is None and wrapping is None:
            return Fit(kind=FitKind.PLAYS, reason=f"{target.device} plays it as it is")
        if objection is None and wrapping and not facts.lead_samples and _rewrap(facts, row):
            return Fit(kind=FitKind.REWRAP, reason=f"{target.device} {wrapping}")
        objections.append(objection or wrapping)
    refusal = _no_way(facts, target)
    if refusal:
        return Fit(kind=FitKind.CANNOT, reason=refusal)
    if objections:
        return Fit(kind=FitKind.CONVERT, reason=f"{target.device} {objections[0]}")
    kinds = tuple(dict.fromkeys(row.kind for row in target.accepts))
    return Fit(kind=FitKind.CONVERT, reason=f"{target.device} takes {_listed(kinds)} only")


def rewrap_to(facts: Facts, target: Target) -> Rewrap | None:
    """How a track is packed anew for a target."""
    rows = [row for row in target.accepts if row.codec == facts.codec and _objection(facts, row, target.strict) is None]
    return next(filter(None, (_rewrap(facts, row) for row in rows)), None)


def _rewrap(facts: Facts, row: Accepts) -> Rewrap | None:
    return rewrap_for(facts.codec, facts.container, row.containers)


def shape_for(facts: Facts, target: Target) -> SoundShape:
    """The shape a track is converted to for a target."""
    depth = FLOAT_STANDS_FOR_BITS if facts.lossless and facts.bit_depth is None else facts.bit_depth
    return planned_shape(target.make, sample_rate=facts.sample_rate, bit_depth=depth, channels=facts.channels)


def _no_way(facts: Facts, target: Target) -> str | None:
    encoding = encoding_for(target.make.encoding)
    shape = shape_for(facts, target)
    try:
        encoding.check_request(shape, target.make.settings)
        mix_matrix(facts.channels, shape.channels, facts.speakers)
    except EncodeError as error:
        return str(error)
    return None
