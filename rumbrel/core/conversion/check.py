"""Proof that a result is right: decode it again, compare it with its source and its target."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from rumbrel.core.encoders.encodings import Encoding, encoding_for
from rumbrel.core.encoders.rewrap import CodedSound, Rewrap, packets_digest, skipped_at_start
from rumbrel.core.errors import CheckFailed, DecodeError
from rumbrel.core.forecast.steps import Step
from rumbrel.core.formats.table import codec_row
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.sound.decoding import SoundSource, open_sound
from rumbrel.core.sound.digest import SampleDigest
from rumbrel.core.sound.likeness import Likeness
from rumbrel.core.sound.stages import Cut
from rumbrel.core.targets.fit import FitKind, fit_to

from .against_source import Tell, hold_against_source

__all__ = [
    "Checked",
    "check_result",
    "coded_sound",
    "compare_rewrapped",
    "digest_of",
    "inspect_result",
    "same_packets",
]


class _Promise(Protocol):
    """What the conversion says it wrote."""

    @property
    def samples_out(self) -> int: ...
    @property
    def digest(self) -> SampleDigest | None: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Checked:
    """A result that was not found wrong: its Facts, and of a lossy one how like its source it is. samples_in and
    samples_out are those of the source as it was read for the comparison, 0 where it was not."""

    facts: Facts
    likeness: Likeness | None = None
    samples_in: int = 0
    samples_out: int = 0


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


def check_result(working: Path, step: Step, promise: _Promise | None, tell: Tell) -> Checked:
    """Inspect and decode a converted file, and compare all of it with what was to be written: sample by sample where
    the coding is lossless, by likeness where it is not. promise is what the conversion says it wrote; without one a
    lossy result is compared with its source alone. Raises CheckFailed with what is wrong."""
    facts = inspect_result(working, step)
    _compare_shape(facts, step)
    encoding = encoding_for(step.encoding)
    if not encoding.lossless:
        held = hold_against_source(working, facts, step, tell, closely=promise is None)
        _check_length(held.samples, promise.samples_out if promise else held.samples_out, encoding)
        if promise is not None and held.samples_out != promise.samples_out:
            raise CheckFailed(
                f"Read again, the source yields {held.samples_out} samples; {promise.samples_out} were coded."
            )
        held.refuse_what_is_wrong()
        return Checked(
            facts=facts, likeness=held.likeness, samples_in=held.samples_in, samples_out=held.samples_out
        )  # fmt: skip
    digest = SampleDigest(promise.digest.width_bits) if promise and promise.digest else None
    samples = _decode(working, facts, digest, tell)
    if promise is not None:
        _check_length(samples, promise.samples_out, encoding)
        if digest and promise.digest and digest.hexdigest() != promise.digest.hexdigest():
            raise CheckFailed("The result's samples differ from those that were written.")
    return Checked(facts=facts)


def _check_length(samples: int, written: int, encoding: Encoding) -> None:
    if not written <= samples <= written + encoding.slack_samples:
        raise CheckFailed(f"The result decodes to {samples} samples, {written} were written.")


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


def _decode(working: Path, facts: Facts, digest: SampleDigest | None, tell: Tell, stretch: Cut | None = None) -> int:
    samples = 0
    try:
        with open_sound(working, facts.choice()) as sound:
            lengths = _digested(sound, digest, stretch) if digest else sound.lengths()
            for length in lengths:
                samples += length
                tell(min(1.0, samples / max(1, facts.samples)))
            if sound.damaged_packets:
                raise CheckFailed(f"Packets of the result do not decode: {sound.damaged_packets}.")
    except DecodeError as error:
        raise CheckFailed(f"The result does not decode: {error}") from error
    return samples
