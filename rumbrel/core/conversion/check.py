"""Proof that a result is right: decode it again, compare it with its source and its target."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from rumbrel.core.encoders.encodings import Encoding, coding_of, encoding_for
from rumbrel.core.encoders.rewrap import CodedSound, Rewrap, packets_digest, skipped_at_start
from rumbrel.core.errors import AboveCeiling, CheckFailed, DecodeError
from rumbrel.core.forecast.steps import Step, Warning, WarningCode
from rumbrel.core.formats.table import codec_row
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.sound.decoding import SoundSource, open_sound
from rumbrel.core.sound.digest import SampleDigest
from rumbrel.core.sound.level import TruePeakMeter, as_float
from rumbrel.core.sound.likeness import Comparison, Likeness, limits_for
from rumbrel.core.sound.shape import Block
from rumbrel.core.sound.stages import Cut, build_chain
from rumbrel.core.targets.fit import FitKind, fit_to
from rumbrel.core.verdict import Verdict

__all__ = [
    "Checked",
    "Unlike",
    "check_result",
    "coded_sound",
    "compare_rewrapped",
    "digest_of",
    "inspect_result",
    "likeness_warnings",
    "refusal_of",
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
        return _check_lossy(working, facts, step, encoding, promise, tell)
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


def _check_lossy(
    working: Path, facts: Facts, step: Step, encoding: Encoding, promise: _Promise | None, tell: Tell
) -> Checked:
    compared = _Compared(step, encoding)
    try:
        with open_sound(working, facts.choice()) as sound, compared.fed() as fed:
            for block in sound.blocks():
                compared.take(block, fed)
                tell(min(1.0, compared.samples / max(1, facts.samples)))
            compared.finish(fed)
            if sound.damaged_packets:
                raise CheckFailed(f"Packets of the result do not decode: {sound.damaged_packets}.")
    except DecodeError as error:
        raise CheckFailed(f"The result does not decode: {error}") from error
    _check_length(compared.samples, promise.samples_out if promise else compared.samples_out, encoding)
    if promise is not None and compared.samples_out != promise.samples_out:
        raise CheckFailed(
            f"Read again, the source yields {compared.samples_out} samples; {promise.samples_out} were coded."
        )
    likeness = compared.comparison.likeness()
    if likeness.verdict is Verdict.FAILED:
        raise Unlike(f"The result is not like its source: {refusal_of(likeness)}.", likeness)
    compared.check_ceiling()
    return Checked(
        facts=facts, likeness=likeness, samples_in=compared.samples_in, samples_out=compared.samples_out
    )  # fmt: skip


class Unlike(CheckFailed):
    """A lossy result that is another sound than its source; likeness says where and how."""

    def __init__(self, text: str, likeness: Likeness) -> None:
        super().__init__(text)
        self.likeness = likeness


def refusal_of(likeness: Likeness) -> str:
    """What is wrong and where: a clause."""
    if likeness.worst is None:
        return likeness.text
    start, end = likeness.worst.start_seconds, likeness.worst.end_seconds
    return f"{likeness.text}, worst from {_clock(start)} to {_clock(end)}"


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{seconds % 60:04.1f}"


class _Compared:
    """A result beside its source, which is read again and treated as it was for the encoder."""

    def __init__(self, step: Step, encoding: Encoding) -> None:
        if step.shape is None:
            raise CheckFailed("This line has no plan for its sound.")
        self._step, self._shape = step, step.shape
        self.comparison = Comparison(step.shape, limits_for(coding_of(encoding, step.shape, step.target.make.settings)))
        ceiling = step.treatment.ceiling_dbtp
        self._meter = TruePeakMeter(step.shape) if ceiling is not None else None
        self._leading = encoding.leading_samples
        self.samples = self.samples_in = self.samples_out = 0

    @contextmanager
    def fed(self) -> Iterator[Iterator[Block]]:
        """What the encoder was given, block by block. Raises DecodeError."""
        source = self._step.source
        with open_sound(Path(source.path), source.choice()) as sound:
            yield self._blocks(sound)

    def _blocks(self, sound: SoundSource) -> Iterator[Block]:
        treatment = self._step.treatment
        chain = build_chain(sound.shape, self._shape, treatment)
        cut = Cut(treatment.start_sample, treatment.end_sample)
        for block in sound.blocks():
            self.samples_in += len(block)
            yield self._counted(chain.push(cut.push(block)))
        for block in chain.finish():
            yield self._counted(block)

    def _counted(self, block: Block) -> Block:
        self.samples_out += len(block)
        return block

    def take(self, block: Block, fed: Iterator[Block]) -> None:
        """A block of the result, and as much of the source as there is of it."""
        if self._meter is not None:
            self._meter.push(as_float(block))
        skipped = max(0, self._leading - self.samples)
        self.samples += len(block)
        self.comparison.push_result(block[skipped:])
        while self.comparison.ahead_samples > 0 and (piece := next(fed, None)) is not None:
            self.comparison.push_source(piece)

    def finish(self, fed: Iterator[Block]) -> None:
        for piece in fed:
            self.comparison.push_source(piece)
        if self._meter is not None:
            self._meter.finish()

    def check_ceiling(self) -> None:
        ceiling = self._step.treatment.ceiling_dbtp
        if self._meter is not None and ceiling is not None and self._meter.dbtp > ceiling + _CEILING_SLACK_DB:
            over_db = self._meter.dbtp - ceiling
            raise AboveCeiling(
                f"Coded, its peaks reach {self._meter.dbtp:.1f} dBTP, {over_db:.1f} dB above the ceiling. Lower the "
                "loudness by that much, or choose a higher bitrate.",
                over_db,
            )


def likeness_warnings(likeness: Likeness | None) -> tuple[Warning, ...]:
    """What a check of a lossy result leaves open, and what it found beyond full scale."""
    if likeness is None:
        return ()
    found = []
    if likeness.verdict is not Verdict.PASSED:
        text = f"Doubtful whether it is its source throughout: {refusal_of(likeness)}. Hear it."
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
