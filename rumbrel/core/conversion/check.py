"""Proof that a result is right: decode it again, compare it with its source and its target."""

import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.rewrap import CodedSound, Rewrap, packets_digest, skipped_at_start
from rumbrel.core.errors import AboveCeiling, CheckFailed, DecodeError
from rumbrel.core.forecast.steps import Step, Warning, WarningCode
from rumbrel.core.formats.table import codec_row
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.sound.decoding import SoundSource, open_sound
from rumbrel.core.sound.digest import SampleDigest
from rumbrel.core.sound.level import TruePeakMeter, as_float
from rumbrel.core.sound.likeness import Likeness, Sketch, compared
from rumbrel.core.sound.stages import Cut
from rumbrel.core.targets.fit import FitKind, fit_to
from rumbrel.core.verdict import Verdict

__all__ = [
    "Checked",
    "check_result",
    "coded_sound",
    "compare_rewrapped",
    "digest_of",
    "inspect_result",
    "likeness_warnings",
    "same_packets",
]

_PEAK_SLACK_DB = 0.1
_CEILING_SLACK_DB = 0.05
"""Half of the tenth to which peaks are stated."""
Tell = Callable[[float], None]
"""Takes the share done, 0.0 to 1.0."""


class _Promise(Protocol):
    """What the conversion says it wrote."""

    @property
    def samples_out(self) -> int: ...
    @property
    def digest(self) -> SampleDigest | None: ...
    @property
    def sketch(self) -> Sketch | None: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Checked:
    """A result that was not found wrong: its Facts, and of a lossy one how like its source it is."""

    facts: Facts
    likeness: Likeness | None = None


def inspect_result(working: Path, step: Step) -> Facts:
    """Facts of a finished file, judged by the name it will have. Raises CheckFailed with what is wrong."""
    facts = inspect_file(working, suffix=Path(step.output).suffix)
    faults = [fault for fault in facts.faults if not fault.harmless]
    if faults:
        raise CheckFailed(f"The result does not read back: {faults[0].text}")
    fit = fit_to(facts, step.target)
    if fit.kind is not FitKind.PLAYS:
        raise CheckFailed(f"The result does not meet its target: {fit.reason}.")
    return facts


def check_result(working: Path, step: Step, promise: _Promise, tell: Tell) -> Checked:
    """Inspect and decode a converted file, and compare it with what was to be written: sample by sample where
    the coding is lossless, by likeness where it is not. Raises CheckFailed with what is wrong."""
    facts = inspect_result(working, step)
    _compare_shape(facts, step)
    encoding = encoding_for(step.encoding)
    digest = SampleDigest(promise.digest.width_bits) if promise.digest else None
    ceiling = step.treatment.ceiling_dbtp if not encoding.lossless else None
    meter = TruePeakMeter(promise.sketch.shape) if promise.sketch and ceiling is not None else None
    sketch = Sketch(promise.sketch.shape, promise.sketch.seconds, hot=promise.sketch.hot) if promise.sketch else None
    try:
        samples = _decode(
            working, facts, digest, tell, sketch=sketch, leading_samples=encoding.leading_samples, meter=meter
        )
        if not promise.samples_out <= samples <= promise.samples_out + encoding.slack_samples:
            raise CheckFailed(f"The result decodes to {samples} samples, {promise.samples_out} were written.")
        if digest and promise.digest and digest.hexdigest() != promise.digest.hexdigest():
            raise CheckFailed("The result's samples differ from those that were written.")
        likeness = compared(promise.sketch, sketch) if promise.sketch and sketch else None
    finally:
        if sketch:
            sketch.close()
    if likeness and likeness.verdict is Verdict.FAILED:
        raise CheckFailed(
            f"The result is not like its source: {likeness.text} (difference {likeness.difference_db:.0f} dB)."
        )
    if meter is not None and ceiling is not None and meter.dbtp > ceiling + _CEILING_SLACK_DB:
        over_db = meter.dbtp - ceiling
        raise AboveCeiling(
            f"Coded, its peaks reach {meter.dbtp:.1f} dBTP, {over_db:.1f} dB above the ceiling. Lower the loudness by "
            "that much, or choose a higher bitrate.",
            over_db,
        )
    return Checked(facts=facts, likeness=likeness)


def likeness_warnings(likeness: Likeness | None) -> tuple[Warning, ...]:
    """What a check of a lossy result leaves open, and what it found beyond full scale."""
    if likeness is None:
        return ()
    found = []
    if likeness.verdict is not Verdict.PASSED:
        text = f"Not compared closely: {likeness.text}. Hear it."
        found.append(Warning(code=WarningCode.NOT_COMPARED, text=text))
    if likeness.peak_dbfs > _PEAK_SLACK_DB:
        text = (
            f"Decoded, it reaches {likeness.peak_dbfs:.1f} dB beyond full scale, which players limit. Lower the level by "
            "that much to keep its peaks."
        )
        found.append(Warning(code=WarningCode.CLIPPING, text=text))
    return tuple(found)


def digest_of(path: Path, facts: Facts, tell: Tell, stretch: Cut | None = None) -> SampleDigest:
    """Digest of all samples of a file, or of a stretch. Raises CheckFailed when it does not decode throughout."""
    digest = SampleDigest(32)
    _decode(path, facts, digest, tell, stretch)
    return digest


def compare_rewrapped(source: Facts, result: Path, facts: Facts, row: Rewrap, tell: Tell) -> SampleDigest | None:
    """Digest of sound that is the same in two containers, None where it is not. Raises CheckFailed as digest_of."""
    if codec_row(source.codec).two_decoders:
        same = same_packets(source, replace(facts, path=str(result)))
        after = digest_of(result, facts, tell)
        return after if same and after.samples == source.samples else None
    before = digest_of(Path(source.path), source, lambda share: tell(share / 2))
    stretch = None
    if not row.states_length:
        # What cannot state the encoder's delay plays it too: the sound must lie right behind it.
        skipped = skipped_at_start(coded_sound(source))
        stretch = Cut(skipped, skipped + before.samples)
    after = digest_of(result, facts, lambda share: tell(0.5 + share / 2), stretch)
    return after if after.hexdigest() == before.hexdigest() else None


def same_packets(one: Facts, other: Facts) -> bool:
    """Whether the coded sound of two files is the same, byte for byte. Raises DecodeError."""
    return packets_digest(coded_sound(one)) == packets_digest(coded_sound(other))


def coded_sound(facts: Facts) -> CodedSound:
    """How re-wrapping names the sound that facts are about."""
    return CodedSound(path=Path(facts.path), index=facts.sound_index, codec=facts.codec, samples=facts.samples)


def _compare_shape(facts: Facts, step: Step) -> None:
    if step.shape is None:
        return
    found = (facts.sample_rate, facts.channels)
    wanted = (step.shape.sample_rate, step.shape.channels)
    depth_right = not (facts.lossless and step.shape.depth_bits) or facts.bit_depth == step.shape.depth_bits
    if found != wanted or not depth_right:
        raise CheckFailed(
            f"The result is {facts.sample_rate} Hz, {facts.bit_depth or '-'} bit, {facts.channels} channels; "
            f"{step.shape.sample_rate} Hz, {step.shape.depth_bits or '-'} bit, {step.shape.channels} were wanted."
        )


def _digested(sound: SoundSource, digest: SampleDigest, stretch: Cut | None) -> Iterator[int]:
    for block in sound.blocks():
        digest.push(stretch.push(block) if stretch else block)
        yield len(block)


def _sketched(sound: SoundSource, sketch: Sketch, leading_samples: int, meter: TruePeakMeter | None) -> Iterator[int]:
    """Only what a window reaches into is looked at, but for a meter, which wants everything."""

    def wanted(at: int) -> tuple[int, int]:
        if meter:
            return at, sys.maxsize
        start, end = sketch.next_wanted(max(0, at - leading_samples))
        return start + leading_samples, end + leading_samples

    at = -leading_samples
    for length, block in sound.excerpts(wanted):
        if block is not None and meter:
            meter.push(as_float(block))
        if block is not None and at + length > 0:
            sketch.push(block[max(0, -at) :], max(0, at))
        at += length
        yield length


def _decode(
    working: Path,
    facts: Facts,
    digest: SampleDigest | None,
    tell: Tell,
    stretch: Cut | None = None,
    *,
    sketch: Sketch | None = None,
    leading_samples: int = 0,
    meter: TruePeakMeter | None = None,
) -> int:
    samples = 0
    try:
        with open_sound(working, facts.choice()) as sound:
            if digest:
                lengths = _digested(sound, digest, stretch)
            elif sketch:
                lengths = _sketched(sound, sketch, leading_samples, meter)
            else:
                lengths = sound.lengths()
            for length in lengths:
                samples += length
                tell(min(1.0, samples / max(1, facts.samples)))
            if meter:
                meter.finish()
            if sound.damaged_packets:
                raise CheckFailed(f"Packets of the result do not decode: {sound.damaged_packets}.")
    except DecodeError as error:
        raise CheckFailed(f"The result does not decode: {error}") from error
    return samples
