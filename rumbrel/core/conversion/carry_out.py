"""One Step from source to checked result."""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.errors import Cancelled, CheckFailed, DecodeError, OutputError, RumbrelError, TagError
from rumbrel.core.forecast.steps import Action, Step, Warning, WarningCode
from rumbrel.core.formats.encodings import Encoder, encoding_for
from rumbrel.core.sound.decoding import SoundSource, open_sound
from rumbrel.core.sound.digest import SampleDigest
from rumbrel.core.sound.stages import Chain, build_chain
from rumbrel.core.tags import write_tags

from .check import check_result
from .outcome import Outcome
from .placing import move_into_place, output_errors, working_file

__all__ = ["Watch", "carry_out"]

_COPY_BYTES = 1 << 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Watch:
    """How a step reports and hears: progress takes the share done, 0.0 to 1.0."""

    progress: Callable[[float], None] = lambda share: None
    cancelled: Callable[[], bool] = lambda: False

    def tick(self, share: float) -> None:
        """Report, and raise Cancelled when the user has stopped the work."""
        if self.cancelled():
            raise Cancelled("Stopped. Nothing half-written is left.")
        self.progress(share)


_NO_WATCH = Watch()


def carry_out(step: Step, watch: Watch = _NO_WATCH) -> Outcome:
    """Do what the step says. Failures come back as an Outcome; only Cancelled is raised."""
    if step.action is Action.SKIP:
        return Outcome(step=step, ok=True, warnings=step.warnings)
    if step.action is Action.REFUSE:
        return Outcome(step=step, ok=False, error=step.reason)
    try:
        with working_file(Path(step.output)) as working:
            outcome = _copy(step, working, watch) if step.action is Action.COPY else _convert(step, working, watch)
            _check_unchanged(step)
            move_into_place(working, Path(step.output), replaces=step.replaces)
    except Cancelled:
        raise
    except RumbrelError as error:
        return Outcome(step=step, ok=False, error=str(error), warnings=step.warnings)
    watch.progress(1.0)
    return outcome


def _check_unchanged(step: Step) -> None:
    path = Path(step.source.path)
    try:
        status = path.stat()
    except OSError as error:
        raise DecodeError(f"{path.name} vanished while it was read. Connect its disk again, then continue.") from error
    if (status.st_size, status.st_mtime_ns) != (step.source.size_bytes, step.source.modified_ns):
        raise DecodeError(f"{path.name} was changed while it was read. Scan it again, then continue.")


def _copy(step: Step, working: Path, watch: Watch) -> Outcome:
    """Byte for byte, then read back and compared."""
    source = Path(step.source.path)
    read, copied = hashlib.sha256(), 0
    try:
        reading = source.open("rb")
    except OSError as error:
        raise DecodeError(f"{source.name} cannot be read: {error.strerror}.") from error
    with reading, output_errors(working.parent), working.open("wb") as writing:
        while chunk := reading.read(_COPY_BYTES):
            read.update(chunk)
            writing.write(chunk)
            copied += len(chunk)
            watch.tick(0.8 * copied / max(1, step.source.size_bytes))
    with working.open("rb") as file:
        if hashlib.file_digest(file, "sha256").digest() != read.digest():
            raise CheckFailed("The copy does not read back as it was written. Check the disk.")
    samples = step.source.samples
    return Outcome(
        step=step, ok=True, bytes_out=copied, samples_in=samples, samples_out=samples, checked=True,
        bitrate_bps=step.source.bitrate_bps, warnings=step.warnings,
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Passage:
    """What went through: samples read and written, and the digest where nothing was changed."""

    samples_in: int
    samples_out: int
    digest: SampleDigest | None
    clipped_values: int
    damaged_packets: int


# Of the time of a step, what decoding and encoding take; the check takes the rest.
_WRITING_SHARE = 0.85


def _convert(step: Step, working: Path, watch: Watch) -> Outcome:
    if step.shape is None or step.after is None:
        raise OutputError("This forecast line has no plan for its sound. Make the forecast again.")
    encoding = encoding_for(step.target.make.encoding)
    encoding.check_request(step.shape, step.target.make.settings)
    with open_sound(Path(step.source.path), step.source.choice()) as sound:
        chain = build_chain(sound.shape, step.shape, step.treatment)
        with output_errors(working.parent):
            encoder = encoding.open(working, step.shape, step.target.make.settings)
        exact = encoding.lossless and chain.is_exact and not sound.shape.is_float
        passage = _pass_sound(sound, chain, encoder, step, exact, watch)
    lost_tags: tuple[str, ...] = ()
    warnings = step.warnings
    try:
        lost_tags = write_tags(working, step.source.tags, container=encoding.container, codec=encoding.codec)
    except TagError as error:
        warnings += (Warning(code=WarningCode.TAGS_LOST, text=str(error)),)
    result = check_result(
        working, step, passage, lambda share: watch.tick(_WRITING_SHARE + (1 - _WRITING_SHARE) * share)
    )
    warnings += _passage_warnings(step, passage, lost_tags)
    partial = any(warning.code in (WarningCode.CUT_SHORT, WarningCode.DAMAGED) for warning in warnings)
    return Outcome(
        step=replace(step, warnings=warnings),
        ok=not partial,
        bytes_out=result.size_bytes,
        samples_in=passage.samples_in,
        samples_out=passage.samples_out,
        checked=True,
        digest=passage.digest.hexdigest() if passage.digest else "",
        error="Only a part of the source could be saved." if partial else "",
        bitrate_bps=result.bitrate_bps,
        warnings=warnings,
    )


def _pass_sound(sound: SoundSource, chain: Chain, encoder: Encoder, step: Step, exact: bool, watch: Watch) -> Passage:
    """Pump blocks from decoder to encoder; on any error the encoder is let go of."""
    expected = max(1, step.source.samples)
    digest = SampleDigest(16 if chain.shape.depth_bits <= 16 else 32) if exact else None
    samples_in = samples_out = 0
    try:
        for block in sound.blocks():
            samples_in += len(block)
            shaped = chain.push(block)
            samples_out += len(shaped)
            if digest:
                digest.push(shaped)
            encoder.write(shaped)
            watch.tick(_WRITING_SHARE * min(1.0, samples_in / expected))
        for shaped in chain.finish():
            samples_out += len(shaped)
            encoder.write(shaped)
        if not samples_in:
            raise DecodeError(f"There is no sound in {Path(step.source.path).name}.")
        encoder.finish()
    except BaseException:
        encoder.abandon()
        raise
    return Passage(
        samples_in=samples_in,
        samples_out=samples_out,
        digest=digest,
        clipped_values=chain.clipped_values,
        damaged_packets=sound.damaged_packets,
    )


def _passage_warnings(step: Step, passage: Passage, lost_tags: tuple[str, ...]) -> tuple[Warning, ...]:
    found = []
    if passage.clipped_values:
        text = f"{passage.clipped_values} values went beyond full scale and were limited."
        found.append(Warning(code=WarningCode.CLIPPING, text=text))
    if passage.damaged_packets:
        text = f"{passage.damaged_packets} damaged packets were passed over; their sound is lost."
        found.append(Warning(code=WarningCode.DAMAGED, text=text))
    if passage.samples_in != step.source.samples:
        text = f"{passage.samples_in} samples were decoded, {step.source.samples} were expected."
        found.append(Warning(code=WarningCode.LENGTH_DIFFERS, text=text))
    if lost_tags:
        text = f"The result cannot hold these tags: {', '.join(lost_tags)}."
        found.append(Warning(code=WarningCode.TAGS_LOST, text=text))
    return tuple(found)
