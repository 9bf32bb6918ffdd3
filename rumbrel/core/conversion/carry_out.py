"""Steps from source to checked result: decoded once, encoded as often as there are targets."""

import logging
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.rewrap import rewrap_sound
from rumbrel.core.errors import AboveCeiling, Cancelled, CheckFailed, DecodeError, OutputError, RumbrelError
from rumbrel.core.figures import figure
from rumbrel.core.files import (
    Settling,
    copy_compared,
    move_into_place,
    output_errors,
    refused_now,
    sha256_of,
    working_file,
)
from rumbrel.core.forecast.planning import plan_sound
from rumbrel.core.forecast.steps import Action, Step, Warning, WarningCode
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.reasons import why_failed
from rumbrel.core.sound.second_reader import open_twice_read, read_by

from .against_source import Unlike, likeness_warnings
from .check import Checked, check_result, coded_sound, compare_rewrapped, inspect_result, same_packets
from .lane import Lane, Passage, put_tags
from .outcome import Outcome

__all__ = ["Watch", "carry_out", "carry_out_group"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Watch:
    """How a group of steps says how far it is: tell takes the share done, 0.0 to 1.0, and raises Cancelled
    when the work is to stop. landing is told of each result and its working file just before it gets its name.

    checks is False only where the work without its proof is to be measured.
    """

    tell: Callable[[float], None] = lambda share: None
    landing: Callable[[Outcome, Path], None] = lambda outcome, working: None
    checks: bool = True


_NO_WATCH = Watch()
_log = logging.getLogger(__name__)


def carry_out(step: Step, watch: Watch = _NO_WATCH) -> Outcome:
    """Do what the step says. Failures come back as an Outcome; only Cancelled is raised."""
    return carry_out_group((step,), watch)[0]


def carry_out_group(steps: Sequence[Step], watch: Watch = _NO_WATCH) -> list[Outcome]:
    """Do several steps of one source; its sound is decoded once for all that convert it."""
    outcomes: dict[int, Outcome] = {}
    for number, step in enumerate(steps):
        if step.action is Action.SKIP:
            outcomes[number] = Outcome(step=step, ok=True, warnings=step.warnings)
        elif step.action is Action.REFUSE:
            outcomes[number] = Outcome(step=step, ok=False, error=step.reason)
        elif step.action is Action.COPY:
            outcomes[number] = _carry_alone(step, watch)
    steps = list(steps)
    for number, step in enumerate(steps):
        if step.action is Action.REWRAP:
            outcomes[number] = outcome = _carry_alone(step, watch)
            if not outcome.ok and (instead := _conversion_instead(step, outcome)) is not None:
                steps[number] = instead
    converting = [number for number, step in enumerate(steps) if step.action is Action.CONVERT]
    if converting:
        done = _convert([steps[number] for number in converting], watch)
        outcomes.update(zip(converting, done, strict=True))
    return [outcomes[number] for number in range(len(steps))]


def _failed(step: Step, error: RumbrelError) -> Outcome:
    may_pass = isinstance(error, OutputError) or not _is_as_foreseen(step)
    outcome = Outcome(step=step, ok=False, error=str(error), warnings=step.warnings, may_pass=may_pass)
    return outcome.with_likeness(error.likeness) if isinstance(error, Unlike) else outcome


def _is_as_foreseen(step: Step) -> bool:
    """Whether the source lies there as it did when it was inspected."""
    try:
        status = os.stat(step.source.path)
    except OSError:
        return False
    return (status.st_size, status.st_mtime_ns) == (step.source.size_bytes, step.source.modified_ns)


def _unexpected(step: Step, error: Exception) -> RumbrelError:
    """An error that nobody thought of costs this result alone; the log has where it arose, once."""
    _log.exception("%s for %s", step.source.path, step.target.slug, exc_info=error)
    return OutputError(
        f"Unexpected: {type(error).__name__}, {why_failed(error)}. The log says where. Nothing was kept."
    )


def _conversion_instead(step: Step, outcome: Outcome) -> Step | None:
    """The step as a conversion, where its sound could not be repackaged; None where the result could not have the name
    that was promised, or where the source or its destination is what failed."""
    planned = plan_sound(step.source, step.target, rewraps=False, source_id=step.source_id, work=step.work)
    if planned.action is not Action.CONVERT or encoding_for(planned.encoding).suffix != Path(step.output).suffix:
        return None
    try:
        _check_unchanged(step)
    except DecodeError:
        return None
    text = f"Converted, since its coded sound could not be repackaged: {outcome.error}"
    said = Warning(code=WarningCode.CONVERTED_INSTEAD, text=text)
    return replace(
        step, action=planned.action, reason="its coded sound could not be repackaged", after=planned.after,
        shape=planned.shape, encoding=planned.encoding, treatment=planned.treatment,
        warnings=(*planned.warnings, said),
    )  # fmt: skip


def _carry_alone(step: Step, watch: Watch) -> Outcome:
    try:
        with working_file(Path(step.output)) as working:
            outcome = _copy(step, working, watch) if step.action is Action.COPY else _rewrap(step, working, watch)
            _check_unchanged(step)
            outcome = _with_digest(outcome, working)
            watch.landing(outcome, working)
            move_into_place(working, Path(step.output), replaces=step.replaces)
    except Cancelled:
        raise
    except RumbrelError as error:
        return _failed(step, error)
    except Exception as error:  # noqa: BLE001 - it is logged and said
        return _failed(step, _unexpected(step, error))
    return outcome


def _with_digest(outcome: Outcome, working: Path) -> Outcome:
    """With the digest of the file that is about to get its name. Raises OutputError."""
    with output_errors(working.parent):
        return replace(outcome, sha256=sha256_of(working))


def _check_unchanged(step: Step) -> None:
    path = Path(step.source.path)
    try:
        status = path.stat()
    except OSError as error:
        raise DecodeError(f"{path.name} vanished while it was read. Connect its disk again, then continue.") from error
    if (status.st_size, status.st_mtime_ns) != (step.source.size_bytes, step.source.modified_ns):
        raise DecodeError(f"{path.name} changed after the forecast. Make the forecast again.")


def _copy(step: Step, working: Path, watch: Watch) -> Outcome:
    """Byte for byte, then read back and compared; where tags change in it, its coded sound is compared once more."""
    source = Path(step.source.path)
    size = max(1, step.source.size_bytes)
    _, copied = copy_compared(source, working, report=lambda done: watch.tell(0.8 * min(1.0, done / size)))
    samples = step.source.samples
    if step.changes_tags:
        # The sound stays as it is; what the work found out about it is added to the copy's tags.
        lost = put_tags(working, step, container=step.source.container, codec=step.source.codec)
        step = replace(step, warnings=step.warnings + lost)
        facts = inspect_result(working, step)
        if step.source.bare is None and not same_packets(step.source, replace(facts, path=str(working))):
            raise CheckFailed(
                "Its sound would not be the same with these tags, so it was not kept. Copy it without them."
            )
        copied = facts.size_bytes
    return Outcome(
        step=step, ok=True, bytes_out=copied, samples_in=samples, samples_out=samples, checked=True,
        bitrate_bps=step.source.bitrate_bps, warnings=step.warnings, identical_file=not step.changes_tags,
    )  # fmt: skip


def _rewrap(step: Step, working: Path, watch: Watch) -> Outcome:
    """The coded sound repackaged, then both decoded and compared to the sample."""
    row = step.rewrap
    if row is None:
        raise OutputError("The file changed after the forecast. Make the forecast again.")
    seconds = max(0.001, step.source.duration_seconds)
    with output_errors(working.parent):
        rewrap_sound(coded_sound(step.source), working, row, progress=lambda at: watch.tell(0.4 * min(1, at / seconds)))
    warnings = step.warnings + put_tags(working, step, container=row.container, codec=row.codec)
    facts = inspect_result(working, step)
    digest = compare_rewrapped(step.source, working, facts, row, lambda share: watch.tell(0.4 + 0.6 * share))
    if digest is None:
        raise CheckFailed(
            "The sound decodes differently in its new container, so it was not kept. "
            "Choose another target, or have it converted (--no-rewrap)."
        )
    return Outcome(
        step=replace(step, warnings=warnings), ok=True, bytes_out=facts.size_bytes, samples_in=step.source.samples,
        samples_out=digest.samples, checked=True, digest=digest.hexdigest(), bitrate_bps=facts.bitrate_bps,
        warnings=warnings,
    )  # fmt: skip


# Of the time of a step, what decoding and encoding take; the check takes the rest.
_WRITING_SHARE = 0.85


def _convert(steps: Sequence[Step], watch: Watch) -> list[Outcome]:
    source = steps[0].source
    lanes: list[Lane] = []
    try:
        with open_twice_read(Path(source.path), source.choice(), source.samples) as sound:
            for step in steps:
                lanes.append(Lane(step, sound.shape))
            samples_in, expected = 0, max(1, source.samples)
            for block in sound.blocks():
                samples_in += len(block)
                for lane in lanes:
                    lane.push(block)
                if all(lane.error is not None for lane in lanes):
                    break
                watch.tell(_WRITING_SHARE * min(1.0, samples_in / expected))
            passages = [lane.finish(samples_in, sound.damaged_packets) for lane in lanes]
        outcomes = []
        for number, (lane, passage) in enumerate(zip(lanes, passages, strict=True)):
            try:
                outcomes.append(_settled(lane, passage, _Part(watch, number, len(lanes))))
            except AboveCeiling as error:
                lane.close()
                outcomes += _convert([_lowered(lane.step, error)], watch)
        return outcomes
    except DecodeError as error:
        return [_failed(step, error) for step in steps]
    finally:
        for lane in lanes:
            lane.close()


@dataclass(frozen=True, slots=True)
class _Part:
    """The check's share of the progress, one part for each lane."""

    watch: Watch
    number: int
    count: int

    def __call__(self, share: float) -> None:
        self.watch.tell(_WRITING_SHARE + (1 - _WRITING_SHARE) * (self.number + share) / self.count)


def _settled(lane: Lane, passage: Passage | None, part: _Part) -> Outcome:
    """Tags, check, and into place; or why not."""
    if passage is None:
        why = lane.error or OutputError("The result could not be written.")
        return _failed(lane.step, why if isinstance(why, RumbrelError) else _unexpected(lane.step, why))
    step = lane.step
    try:
        _refuse_limiting(step, passage)
        with output_errors(lane.working.parent):
            warnings = _foreseen(step, passage) + lane.write_tags() + _passage_warnings(step, passage)
        settling = Settling(lane.working)
        try:
            outcome = _proved(lane, passage, warnings, part)
        finally:
            settling.join()
        _check_unchanged(step)
        outcome = _with_digest(outcome, lane.working)
        part.watch.landing(outcome, lane.working)
        move_into_place(lane.working, Path(step.output), replaces=step.replaces, settling=settling)
    except Cancelled:
        raise
    except AboveCeiling as error:
        if step.treatment.lowerings:
            raise
        return _failed(step, error)
    except CheckFailed as error:
        # Some libraries close a file that the disk did not take as if it had.
        return _failed(step, refused_now(lane.working) or error)
    except RumbrelError as error:
        return _failed(step, error)
    except Exception as error:  # noqa: BLE001 - it is logged and said
        return _failed(step, _unexpected(step, error))
    return outcome


_LOWER_BY_DB = 0.1
"""More than the excess, since coding anew does not lift the peaks by quite the same."""


def _lowered(step: Step, error: AboveCeiling) -> Step:
    """The same step a little quieter: coding lifted its peaks above the ceiling."""
    treatment, by_db = step.treatment, error.over_db + _LOWER_BY_DB
    lowered = replace(treatment, lowerings=treatment.lowerings - 1)
    if treatment.limit_dbtp is not None:
        what, lowered = "Limited", replace(lowered, limit_dbtp=treatment.limit_dbtp - by_db)
    else:
        what, lowered = "Lowered", replace(lowered, gain_db=treatment.gain_db - by_db)
    text = f"{what} by another {by_db:.1f} dB, since coding had lifted its peaks above {figure(treatment.ceiling_dbtp, 'g')} dBTP."
    warning = Warning(code=WarningCode.LEVEL, text=text)
    return replace(step, treatment=lowered, warnings=(*step.warnings, warning))


def _refuse_limiting(step: Step, passage: Passage) -> None:
    """A floating point master beyond full scale has no faithful integer copy: that is no result to be called ok."""
    source = step.source
    is_float = source.is_floating
    if passage.clipped_values and is_float and encoding_for(step.encoding).lossless:
        raise CheckFailed(
            f"{Path(source.path).name} goes up to {passage.over_db:.1f} dB beyond full scale, and "
            f"{passage.clipped_values:,} sample values would be limited. Choose a target in floating point, or have the "
            "level lowered."
        )


def _proved(lane: Lane, passage: Passage, warnings: tuple[Warning, ...], part: _Part) -> Outcome:
    step = lane.step
    if part.watch.checks:
        checked = check_result(lane.working, step, passage, part)
        warnings += likeness_warnings(checked.likeness)
    else:
        checked = Checked(facts=Facts(path=step.output, size_bytes=lane.working.stat().st_size))
    partial = any(warning.code in (WarningCode.CUT_SHORT, WarningCode.DAMAGED) for warning in warnings)
    return Outcome(
        step=replace(step, warnings=warnings),
        ok=not partial,
        partial=partial,
        bytes_out=checked.facts.size_bytes,
        samples_in=passage.samples_in,
        samples_out=passage.samples_out,
        checked=part.watch.checks,
        digest=passage.digest.hexdigest() if passage.digest and passage.is_exact else "",
        error="Only a part of the source could be saved." if partial else "",
        bitrate_bps=checked.facts.bitrate_bps,
        read_by=read_by(step.source.choice(), checked.facts.choice()) if part.watch.checks else "",
        warnings=warnings,
    ).with_likeness(checked.likeness)


def _packets(count: int) -> str:
    return "1 damaged packet" if count == 1 else f"{count:,} damaged packets"


def _foreseen(step: Step, passage: Passage) -> tuple[Warning, ...]:
    """The forecast's warnings, without what is known better by now."""
    if not passage.clipped_values:
        return step.warnings
    return tuple(warning for warning in step.warnings if warning.code is not WarningCode.CLIPPING)


def _passage_warnings(step: Step, passage: Passage) -> tuple[Warning, ...]:
    found = []
    if passage.clipped_values:
        text = (
            f"{passage.clipped_values:,} sample values go up to {passage.over_db:.1f} dB beyond full scale and are "
            "limited. Lower the level by that much to keep them."
        )
        found.append(Warning(code=WarningCode.CLIPPING, text=text))
    if passage.not_numbers:
        text = f"{passage.not_numbers:,} sample values are no numbers or infinite; they are lost."
        found.append(Warning(code=WarningCode.DAMAGED, text=text))
    if passage.damaged_packets:
        lost = "its sound is" if passage.damaged_packets == 1 else "their sound is"
        text = f"Silence stands for {_packets(passage.damaged_packets)}; {lost} lost."
        found.append(Warning(code=WarningCode.DAMAGED, text=text))
    if passage.samples_in != step.source.samples:
        text = f"{passage.samples_in} samples were decoded, {step.source.samples} were expected."
        found.append(Warning(code=WarningCode.LENGTH_DIFFERS, text=text))
    return tuple(found)
