"""A lossy result held against its source, which is read again and treated as it was for the encoder.

The comparison goes by what the encoder is known to leave (core/sound/likeness). Where that is not enough to tell, the
encoder makes a result of the same source once more, and what that leaves is the measure: what a sound makes of its coding
by itself is no fault, and what another hand did shows, however little it is.
"""

import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from types import TracebackType

from rumbrel.core.encoders.encodings import Encoding, coding_of, encoding_for
from rumbrel.core.errors import AboveCeiling, CheckFailed, DecodeError, EncodeError, OutputError
from rumbrel.core.figures import figure
from rumbrel.core.forecast.steps import Step, Warning, WarningCode
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.inspection.encoder_statement import encoder_statement
from rumbrel.core.sound.decoding import SoundSource, open_sound
from rumbrel.core.sound.level import TruePeakMeter, as_float
from rumbrel.core.sound.likeness import Comparison, Likeness, limits_for
from rumbrel.core.sound.shape import Block, SoundShape
from rumbrel.core.sound.stages import Cut, build_chain
from rumbrel.core.verdict import Verdict

__all__ = ["Held", "Tell", "Unlike", "hold_against_source", "likeness_warnings", "refusal_of"]

_PEAK_SLACK_DB = 0.1
_CEILING_SLACK_DB = 0.05
"""Half of the tenth to which peaks are stated."""
Tell = Callable[[float], None]
"""Takes the share done, 0.0 to 1.0."""


class Unlike(CheckFailed):
    """A lossy result that is another sound than its source; likeness says where and how."""

    def __init__(self, text: str, likeness: Likeness) -> None:
        super().__init__(text)
        self.likeness = likeness


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """What comparing told. samples are those of the result, samples_in and samples_out those of the source as it was
    read and as its encoder was given it. over_db is how far the result's true peak goes beyond its ceiling."""

    likeness: Likeness
    samples: int
    samples_in: int
    samples_out: int
    peak_dbtp: float | None = None
    over_db: float = 0.0

    def refuse_what_is_wrong(self) -> None:
        """Raises Unlike for other sound, AboveCeiling for peaks beyond the ceiling."""
        if self.likeness.verdict is Verdict.FAILED:
            raise Unlike(f"The result is not like its source: {refusal_of(self.likeness)}.", self.likeness)
        if self.over_db > _CEILING_SLACK_DB:
            raise AboveCeiling(
                f"Coded, its peaks reach {figure(self.peak_dbtp)} dBTP, {self.over_db:.1f} dB above the ceiling. Lower the "
                "loudness by that much, or choose a higher bitrate.",
                self.over_db,
            )


def hold_against_source(result: Path, facts: Facts, step: Step, tell: Tell, *, closely: bool) -> Held:
    """Compare all of a lossy result with its source. closely has the encoder make it once more wherever the table of
    limits leaves room for something wrong, and not only where it finds something: what lies there may be of another hand.
    Raises CheckFailed where either does not decode throughout."""
    if step.shape is None:
        raise CheckFailed("There is no plan for the sound of this line.")
    encoding, shape = encoding_for(step.encoding), step.shape
    limits = limits_for(coding_of(encoding, shape, step.target.make.settings))
    ceiling = step.treatment.ceiling_dbtp
    meter = TruePeakMeter(shape) if ceiling is not None else None
    fed, comparison = _Fed(step, shape), Comparison(shape, limits)
    samples = 0
    try:
        with open_sound(result, facts.choice()) as sound, fed:
            lead = Cut(encoding.leading_samples, None)
            for block in sound.blocks():
                if meter is not None:
                    meter.push(as_float(block))
                samples += len(block)
                comparison.push_result(lead.push(block))
                fed.push_until(comparison, lambda: comparison.ahead_samples > 0)
                tell(min(1.0, samples / max(1, facts.samples)))
            fed.push_until(comparison, lambda: True)
            _refuse_damaged(sound)
    except DecodeError as error:
        raise CheckFailed(f"The result does not decode: {error}") from error
    likeness = comparison.likeness()
    if likeness.verdict is not Verdict.PASSED or (closely and likeness.suspicious):
        likeness = _beside_another(result, facts, step, likeness, tell)
    if meter is not None:
        meter.finish()
    return Held(
        likeness=likeness, samples=samples, samples_in=fed.samples_in, samples_out=fed.samples_out,
        peak_dbtp=meter.dbtp if meter else None,
        over_db=meter.dbtp - ceiling if meter is not None and ceiling is not None else 0.0,
    )  # fmt: skip


def _refuse_damaged(sound: SoundSource) -> None:
    if sound.damaged_packets:
        raise CheckFailed(f"Packets of the result do not decode: {sound.damaged_packets}.")


class _Fed:
    """What the encoder was given, block by block. Raises DecodeError."""

    def __init__(self, step: Step, shape: SoundShape) -> None:
        self._step, self._shape = step, shape
        self._sound: SoundSource | None = None
        self._blocks: Iterator[Block] = iter(())
        self.samples_in = self.samples_out = 0

    def __enter__(self) -> "_Fed":
        source = self._step.source
        self._sound = open_sound(Path(source.path), source.choice()).__enter__()
        self._blocks = self._treated(self._sound)
        return self

    def __iter__(self) -> Iterator[Block]:
        return self._blocks

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._sound is not None:
            self._sound.__exit__(kind, error, trace)

    def _treated(self, sound: SoundSource) -> Iterator[Block]:
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

    def push_until(self, comparison: Comparison, is_wanted: Callable[[], bool]) -> None:
        """Give the comparison pieces as long as they are wanted and there are any."""
        while is_wanted() and (piece := next(self._blocks, None)) is not None:
            comparison.push_source(piece)


def _make_again(path: Path, step: Step, shape: SoundShape, encoding: Encoding, tell: Tell) -> None:
    encoder = encoding.open(path, shape, step.target.make.settings)
    try:
        with _Fed(step, shape) as fed:
            for block in fed:
                # It only asks whether the work is to go on: how long this takes is not known beforehand.
                tell(1.0)
                if len(block):
                    encoder.write(block)
    except BaseException:
        encoder.abandon()
        raise
    encoder.finish()


def _beside_another(result: Path, facts: Facts, step: Step, by_table: Likeness, tell: Tell) -> Likeness:
    """The likeness by what the encoder leaves of this very source; by the table alone where it cannot be made again, or
    where the result is another encoder's by its own statement."""
    assert step.shape is not None
    encoding, shape, settings = encoding_for(step.encoding), step.shape, step.target.make.settings
    comparison = Comparison(shape, limits_for(coding_of(encoding, shape, settings)), again=True)
    try:
        with tempfile.TemporaryDirectory(prefix="rumbrel-check-") as folder:
            other = Path(folder, f"again{encoding.suffix}")
            _make_again(other, step, shape, encoding, tell)
            with (
                open_sound(result, facts.choice()) as sound,
                open_sound(other, inspect_file(other).choice()) as another,
                _Fed(step, shape) as fed,
            ):
                leads = Cut(encoding.leading_samples, None), Cut(encoding.leading_samples, None)
                others = another.blocks()
                for block in sound.blocks():
                    tell(1.0)
                    comparison.push_result(leads[0].push(block))
                    fed.push_until(comparison, lambda: comparison.ahead_samples > 0)
                    while comparison.ahead_of_other_samples > 0 and (piece := next(others, None)) is not None:
                        comparison.push_again(leads[1].push(piece))
                fed.push_until(comparison, lambda: True)
                for piece in others:
                    comparison.push_again(leads[1].push(piece))
            same_encoder = _is_of_one_encoder(result, other, facts)
    except (DecodeError, EncodeError, OutputError, OSError):
        return by_table
    found = comparison.likeness()
    if found.verdict is Verdict.PASSED:
        return replace(by_table, verdict=Verdict.PASSED) if by_table.tells else found
    # Another version of an encoder leaves other things: then it is the table that tells. What it refuses it says best.
    return found if same_encoder and by_table.verdict is not Verdict.FAILED else by_table


def _is_of_one_encoder(result: Path, other: Path, facts: Facts) -> bool:
    one, another = (encoder_statement(path, container=facts.container, codec=facts.codec) for path in (result, other))
    return one == another and one != ""


def refusal_of(likeness: Likeness) -> str:
    """What is wrong and where: a clause."""
    if likeness.worst is None:
        return likeness.text
    start, end = likeness.worst.start_seconds, likeness.worst.end_seconds
    return f"{likeness.text}, worst from {_clock(start)} to {_clock(end)}"


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{seconds % 60:04.1f}"


def likeness_warnings(likeness: Likeness | None) -> tuple[Warning, ...]:
    """What a check of a lossy result leaves open, what its encoder leaves out, and what it found beyond full scale."""
    if likeness is None:
        return ()
    found = []
    if likeness.verdict is not Verdict.PASSED:
        text = f"Doubtful whether it is its source throughout: {refusal_of(likeness)}. Listen to it."
        found.append(Warning(code=WarningCode.NOT_COMPARED, text=text))
    elif likeness.text:
        text = (
            f"This encoder changes this sound more than most: {refusal_of(likeness)}. Coded again, it comes out alike."
        )
        found.append(Warning(code=WarningCode.ENCODER_LEAVES, text=text))
    if likeness.peak_dbfs > _PEAK_SLACK_DB:
        text = (
            f"Decoded, it reaches {likeness.peak_dbfs:.1f} dB beyond full scale, which players limit. Lower the level by "
            "that much to keep its peaks."
        )
        found.append(Warning(code=WarningCode.CLIPPING, text=text))
    return tuple(found)
