"""From Facts and a Target to what is done with the sound: fit, then size, then warnings, each once."""

from dataclasses import replace
from functools import partial

from rumbrel.core.encoders.encodings import Encoding, encoding_for
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.stages import Treatment
from rumbrel.core.targets.fit import Fit, FitKind, fit_to
from rumbrel.core.targets.model import Target

from .sizes import after_conversion, after_copy, after_rewrap
from .steps import Action, Step
from .warnings import rewrap_warnings, sound_warnings, tag_warnings

__all__ = ["plan_sound", "treated"]

_ROOM_FOR_TAGS_BYTES = 64 * 1024 * 1024


def plan_sound(
    facts: Facts,
    target: Target,
    *,
    changes_sound: bool = False,
    rewraps: bool = True,
    source_id: int = -1,
    work: str = "",
) -> Step:
    """What would be done with one track's sound; where the result goes is not settled yet.

    changes_sound says that its samples are to change in a way that is not settled yet: then nothing is
    merely copied. Without rewraps, what could be repackaged is converted.
    """
    fit = fit_to(facts, target)
    start = partial(Step, source=facts, target=target, fit=fit, source_id=source_id, work=work)
    if fit.kind is FitKind.CANNOT:
        return start(action=Action.REFUSE, reason=fit.reason)
    if fit.kind is FitKind.PLAYS and not changes_sound:
        return start(action=Action.COPY, reason=fit.reason, after=after_copy(facts))
    if fit.rewrap is not None and fit.kind is FitKind.REWRAP and rewraps and not changes_sound:
        return start(
            action=Action.REWRAP,
            reason=fit.reason,
            after=after_rewrap(facts, fit.rewrap.container),
            warnings=tuple(rewrap_warnings(facts, fit.rewrap)),
        )
    reason = "its level or length is to change" if changes_sound and fit.kind is not FitKind.CONVERT else fit.reason
    treatment = Treatment(highpass_hz=target.make.highpass_hz, dither=target.make.dither)
    return _conversion(start, fit, treatment, reason)


def treated(step: Step, treatment: Treatment) -> Step:
    """A conversion with what measuring found to be done to its sound: size and warnings follow.

    The destination and what was said of it stay as they are.
    """
    if step.fit is None or step.action is not Action.CONVERT:
        return step
    treatment = replace(treatment, highpass_hz=step.target.make.highpass_hz, dither=step.target.make.dither)
    start = partial(
        Step, source=step.source, target=step.target, fit=step.fit, source_id=step.source_id, work=step.work
    )
    planned = _conversion(start, step.fit, treatment, step.reason)
    said = {warning.code for warning in planned.warnings}
    kept = tuple(warning for warning in step.warnings if warning.code not in said)
    if planned.action is Action.REFUSE:
        return planned
    return replace(
        step,
        treatment=planned.treatment,
        after=planned.after,
        encoding=planned.encoding,
        warnings=(*planned.warnings, *kept),
    )


def _conversion(start: "partial[Step]", fit: Fit, treatment: Treatment, reason: str) -> Step:
    facts: Facts = start.keywords["source"]
    target: Target = start.keywords["target"]

    def refused(why: str) -> Step:
        return start(action=Action.REFUSE, reason=why)

    if fit.shape is None:
        return refused(fit.refusal)
    encoding, shape, settings = encoding_for(target.make.encoding), fit.shape, target.make.settings
    if _keeps_floating(facts, target, encoding):
        # Beyond full scale there is no faithful integer copy, and below it none is more exact.
        encoding, shape = encoding_for(encoding.floating), replace(shape, depth_bits=0)
    after = after_conversion(facts, encoding, shape, settings, treatment)
    if not after.samples:
        why = f"its {facts.samples} samples are less than one at {shape.sample_rate} Hz"
        return refused(f"Too short for this target: {why}.")
    if not _can_state(encoding, after.size_bytes):
        if not encoding.larger:
            why = f"{encoding.label} cannot state more than 4 GiB, and this would take {after.size_bytes:,} bytes"
            return refused(f"{why}. Choose another target.")
        encoding = encoding_for(encoding.larger)
        after = after_conversion(facts, encoding, shape, settings, treatment)
    return start(
        action=Action.CONVERT,
        reason=reason,
        after=after,
        shape=shape,
        encoding=encoding.key,
        treatment=treatment,
        warnings=(*sound_warnings(facts, after, shape, treatment.dither), *tag_warnings(facts, encoding)),
    )


def _keeps_floating(facts: Facts, target: Target, encoding: Encoding) -> bool:
    """Whether a floating point master can stay one: the target accepts it so, and there is an encoding for it."""
    if not facts.is_floating or not encoding.floating:
        return False
    floating = encoding_for(encoding.floating)
    return any(
        row.codec == floating.codec and floating.container in row.containers and not row.bit_depths
        for row in target.accepts
    )


def _can_state(encoding: Encoding, size_bytes: int) -> bool:
    """Whether the container's own size fields hold so many bytes, with tags and covers on top."""
    return encoding.largest_bytes is None or size_bytes <= encoding.largest_bytes - _ROOM_FOR_TAGS_BYTES
