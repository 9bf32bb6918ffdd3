"""From Facts and a Target to Steps."""

import os
import shutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path

from rumbrel.core.formats.encodings import Encoding, encoding_for
from rumbrel.core.formats.table import CONTAINERS, SOUND_SUFFIXES
from rumbrel.core.inspection.facts import Facts, ProblemCode
from rumbrel.core.inspection.inspect import inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment
from rumbrel.core.targets.fit import FitKind, fit_to, shape_for
from rumbrel.core.targets.model import Target

from .naming import NamePool, fitted_name
from .sizes import after_conversion, after_copy
from .steps import Action, After, Step, Warning, WarningCode

__all__ = ["Forecast", "Source", "WhenPresent", "forecast_batch", "gather_sources", "plan_sound"]


class WhenPresent(StrEnum):
    """What to do where a result of that name is already there."""

    SKIP = "skip"
    REPLACE = "replace"
    NUMBER = "number"


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A file and its place in the mirrored tree. `named` says that the user named it himself."""

    path: Path
    relative: Path
    named: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """Steps in the order of the sources; free_bytes is the room at the place, None where unknown."""

    steps: tuple[Step, ...]
    free_bytes: int | None

    @property
    def bytes_before(self) -> int:
        return sum(step.source.size_bytes for step in self.working)

    @property
    def bytes_after(self) -> int:
        return sum(step.after.size_bytes for step in self.working if step.after)

    @property
    def working(self) -> tuple[Step, ...]:
        """Steps that write something."""
        return tuple(step for step in self.steps if step.action in (Action.COPY, Action.CONVERT))


def gather_sources(places: Iterable[Path]) -> list[Source]:
    """Files as named, folders walked in order of name. A folder reached again by a link is not walked twice."""
    sources: list[Source] = []
    for place in places:
        if not place.is_dir():
            sources.append(Source(path=place, relative=Path(place.name)))
            continue
        seen: set[str] = set()
        for folder, inner, names in os.walk(place, followlinks=True):
            real = os.path.realpath(folder)
            if real in seen:
                inner.clear()
                continue
            seen.add(real)
            inner.sort()
            inner[:] = [name for name in inner if not name.startswith(".")]
            for name in sorted(names):
                path = Path(folder, name)
                if not name.startswith("."):
                    sources.append(Source(path=path, relative=path.relative_to(place), named=False))
    return sources


def forecast_batch(
    sources: Sequence[Source],
    target: Target,
    place: Path,
    *,
    when_present: WhenPresent = WhenPresent.SKIP,
    inspect: Callable[[Path], Facts] = inspect_file,
) -> Forecast:
    """Plan every source for one target. Reads files, writes nothing."""
    desk = _Desk(
        target=target,
        encoding=encoding_for(target.make.encoding),
        place=place,
        when_present=when_present,
        names=NamePool(),
        source_ids=frozenset(filter(None, (_file_id(source.path) for source in sources))),
    )
    steps = [_plan(source, inspect(source.path), desk) for source in sources]
    return _judge_room(Forecast(steps=tuple(steps), free_bytes=_free_bytes(place)))


def _free_bytes(place: Path) -> int | None:
    """Room at the nearest folder above that exists."""
    for folder in (place, *place.parents):
        if folder.is_dir():
            try:
                return shutil.disk_usage(folder).free
            except OSError:
                return None
    return None


def _judge_room(forecast: Forecast) -> Forecast:
    """Warn on every step from the one at which the room runs out."""
    if forecast.free_bytes is None:
        return forecast
    used, steps = 0, []
    for step in forecast.steps:
        if step in forecast.working and step.after:
            used += step.after.size_bytes
            if used > forecast.free_bytes:
                text = "There will be no room left for this one. Free some space or choose another place."
                step = replace(step, warnings=(*step.warnings, Warning(code=WarningCode.NO_ROOM, text=text)))
        steps.append(step)
    return replace(forecast, steps=tuple(steps))


@dataclass(frozen=True, slots=True, kw_only=True)
class _Desk:
    """What is the same for every step of one forecast, and the names given out so far."""

    target: Target
    encoding: Encoding
    place: Path
    when_present: WhenPresent
    names: NamePool
    source_ids: frozenset[tuple[int, int]]


def _file_id(path: Path) -> tuple[int, int] | None:
    """What tells a file from all others, whatever names and links lead to it."""
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_dev, status.st_ino


def plan_sound(facts: Facts, target: Target) -> Step:
    """What would be done with one track's sound; where the result goes is not settled yet."""
    fit = fit_to(facts, target)
    if fit.kind is FitKind.CANNOT:
        return Step(source=facts, target=target, action=Action.REFUSE, reason=fit.reason)
    if fit.kind is FitKind.PLAYS:
        return Step(source=facts, target=target, action=Action.COPY, reason=fit.reason, after=after_copy(facts))
    shape = shape_for(facts, target)
    after = after_conversion(facts, encoding_for(target.make.encoding), shape, target.make.settings)
    return Step(
        source=facts,
        target=target,
        action=Action.CONVERT,
        reason=fit.reason,
        after=after,
        shape=shape,
        treatment=Treatment(highpass_hz=target.make.highpass_hz),
        warnings=tuple(_sound_warnings(facts, after, shape)),
    )


def _plan(source: Source, facts: Facts, desk: _Desk) -> Step:
    step = plan_sound(facts, desk.target)
    if step.action is Action.REFUSE:
        if not source.named and not facts.sample_rate and source.path.suffix.lower() not in SOUND_SUFFIXES:
            return replace(step, action=Action.SKIP, reason="not a sound file")
        return step
    suffix = _right_suffix(facts) if step.action is Action.COPY else desk.encoding.suffix
    return _placed(step, source, suffix, desk)


def _right_suffix(facts: Facts) -> str:
    """The file's own ending where it is right for its content, else the one it should have."""
    own = Path(facts.path).suffix
    row = next(row for row in CONTAINERS if row.key == facts.container)
    return own if own.lower() in row.suffixes else row.suffixes[0]


def _placed(step: Step, source: Source, suffix: str, desk: _Desk) -> Step:
    """Settle the name, without ever landing on any source or on another result of the batch."""
    when_present = desk.when_present
    wanted = desk.place / source.relative.parent / fitted_name(source.path.stem, suffix)
    warnings = list(step.warnings)
    if len(wanted.name) - len(suffix) < len(source.path.stem):
        warnings.append(Warning(code=WarningCode.NAME_CHANGED, text="The name was shortened to 255 bytes."))
    output = desk.names.claim_numbered(wanted, skip_existing=when_present is WhenPresent.NUMBER)
    if _file_id(output) in desk.source_ids:
        output = desk.names.claim_numbered(wanted, skip_existing=True)
    if output != wanted:
        text = f"Another file is named {wanted.name}, so this one becomes {output.name}."
        warnings.append(Warning(code=WarningCode.SAME_NAME, text=text))
    step = replace(step, output=str(output), warnings=tuple(warnings))
    if when_present is WhenPresent.SKIP and output.exists():
        return replace(step, action=Action.SKIP, reason="already there")
    return replace(step, replaces=when_present is WhenPresent.REPLACE)


def _sound_warnings(facts: Facts, after: After, shape: SoundShape) -> Iterable[Warning]:
    """What the conversion does to the sound that the user should know before."""
    if not facts.lossless:
        if after.lossless:
            yield Warning(
                code=WarningCode.LOSSY_TO_LOSSLESS,
                text="The source is lossy: the result is larger and sounds no better.",
            )
        else:
            yield Warning(code=WarningCode.LOSSY_TO_LOSSY, text="Lossy to lossy.")
            if after.bitrate_bps > facts.bitrate_bps * 1.02:
                yield Warning(
                    code=WarningCode.BITRATE_ABOVE_SOURCE,
                    text=f"{after.bitrate_bps // 1000} is above the source's {round(facts.bitrate_bps / 1000)} kbit/s.",
                )
    # Opus knows one rate only; carrying other rates in it is its normal way and no loss of truth.
    if shape.sample_rate > facts.sample_rate and after.codec != "opus":
        yield Warning(
            code=WarningCode.UPSAMPLED,
            text=f"{facts.sample_rate / 1000:g} becomes {shape.sample_rate / 1000:g} kHz, which adds nothing to the sound.",
        )
    if facts.lossless and after.lossless and (facts.bit_depth or 24) > shape.depth_bits:
        yield Warning(
            code=WarningCode.DEPTH_REDUCED,
            text=f"{facts.bit_depth or 'floating point'} bit becomes {shape.depth_bits} bit, with dither.",
        )
    for problem in facts.problems:
        if problem.code is ProblemCode.CUT_SHORT:
            yield Warning(code=WarningCode.CUT_SHORT, text=problem.text)
    if facts.sound_streams > 1:
        yield Warning(
            code=WarningCode.MORE_SOUNDS, text=f"The file has {facts.sound_streams} sounds; the first one is taken."
        )
