"""Proof of results that are there already: each is decoded with its source and compared, nothing is written."""

from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.errors import CheckFailed, RumbrelError
from rumbrel.core.files import file_digest
from rumbrel.core.forecast.steps import Action, Step
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.digest import SampleDigest, digest_bits
from rumbrel.core.sound.likeness import Likeness
from rumbrel.core.sound.second_reader import read_by
from rumbrel.core.sound.shape import Block
from rumbrel.core.sound.stages import Cut, build_chain

from .against_source import Unlike, likeness_warnings
from .check import check_result, compare_rewrapped, digest_of, inspect_result
from .outcome import Outcome

__all__ = ["verify_step"]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Wanted:
    samples_in: int
    samples_out: int
    digest: SampleDigest | None
    is_exact: bool


def _quietly(share: float) -> None:
    return None


def verify_step(step: Step) -> Outcome:
    """Compare the result at a step's destination with what the step would make of its source."""
    if not step.writes:
        return Outcome(
            step=step, ok=step.action is not Action.REFUSE, error=step.reason * (step.action is Action.REFUSE)
        )
    result = Path(step.output)
    try:
        if not result.is_file():
            raise CheckFailed(f"{result} is not there. Convert again to make it.")
        samples_in, samples_out, digest, likeness = _compared(step, result)
        readers = read_by(step.source.choice(), inspect_file(result).choice()) if step.action is Action.CONVERT else ""
    except RumbrelError as error:
        outcome = Outcome(step=step, ok=False, error=str(error), warnings=step.warnings)
        return outcome.with_likeness(error.likeness) if isinstance(error, Unlike) else outcome
    return Outcome(
        step=step, ok=True, bytes_out=result.stat().st_size, samples_in=samples_in, samples_out=samples_out,
        checked=True, digest=digest, warnings=step.warnings + likeness_warnings(likeness), read_by=readers,
    ).with_likeness(likeness)  # fmt: skip


def _compared(step: Step, result: Path) -> tuple[int, int, str, Likeness | None]:
    source = Path(step.source.path)
    if step.action is Action.COPY and not step.changes_tags:
        if file_digest(source) != file_digest(result):
            raise CheckFailed(f"{result.name} is no longer a copy of its source. Replace it.")
        return step.source.samples, step.source.samples, "", None
    if step.action is Action.REWRAP:
        row = step.rewrap
        digest = row and compare_rewrapped(step.source, result, inspect_result(result, step), row, _quietly)
        if not digest:
            raise CheckFailed(f"{result.name} does not decode as its source does. Replace it.")
        return step.source.samples, digest.samples, digest.hexdigest(), None
    if step.action is Action.COPY:
        before = digest_of(source, step.source, _quietly)
        after = digest_of(result, inspect_result(result, step), _quietly)
        if before.hexdigest() != after.hexdigest():
            raise CheckFailed(f"{result.name} does not decode as its source does. Replace it.")
        return before.samples, after.samples, after.hexdigest(), None
    if not encoding_for(step.encoding).lossless:
        checked = check_result(result, step, None, _quietly)
        return checked.samples_in, checked.samples_out, "", checked.likeness
    wanted = _wanted(step)
    check_result(result, step, wanted, _quietly)
    same = wanted.digest.hexdigest() if wanted.digest and wanted.is_exact else ""
    return wanted.samples_in, wanted.samples_out, same, None


def _wanted(step: Step) -> _Wanted:
    """What the conversion would write, without writing it."""
    if step.shape is None:
        raise CheckFailed("There is no plan for the sound of this line.")
    with open_sound(Path(step.source.path), step.source.choice()) as sound:
        chain = build_chain(sound.shape, step.shape, step.treatment)
        digest = SampleDigest(digest_bits(step.shape))
        cut = Cut(step.treatment.start_sample, step.treatment.end_sample)
        samples_in = samples_out = 0
        for block in sound.blocks():
            samples_in += len(block)
            samples_out += _noted(chain.push(cut.push(block)), digest)
        samples_out += sum(_noted(shaped, digest) for shaped in chain.finish())
    return _Wanted(
        samples_in=samples_in, samples_out=samples_out, digest=digest,
        is_exact=chain.is_exact and not sound.shape.is_float,
    )  # fmt: skip


def _noted(shaped: Block, digest: SampleDigest) -> int:
    if len(shaped):
        digest.push(shaped)
    return len(shaped)
