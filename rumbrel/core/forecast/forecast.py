"""From Facts and a Target to Steps."""

import shutil
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import partial
from pathlib import Path

from rumbrel.core.formats.encodings import encoding_for
from rumbrel.core.formats.table import CONTAINER_BY_KEY, SOUND_SUFFIXES
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.inspection.inspect import inspect_file
from rumbrel.core.places import file_system_for
from rumbrel.core.sound.stages import Treatment
from rumbrel.core.targets.fit import FitKind, fit_to, rewrap_to, shape_for
from rumbrel.core.targets.model import LevelRule, Target
from rumbrel.core.targets.pattern import check_pattern

from .ledger import ResultLedger, work_mark
from .naming import NamePool, Naming
from .sizes import after_conversion, after_copy, after_rewrap
from .sources import Source
from .steps import Action, Step, Warning, WarningCode
from .warnings import rewrap_warnings, sound_warnings, tag_warnings

__all__ = ["Forecast", "ForecastOptions", "WhenPresent", "forecast_batch", "plan_sound"]


class WhenPresent(StrEnum):
    """What to do where a result of that name is already there."""

    SKIP = "skip"
    REPLACE = "replace"
    NUMBER = "number"


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastOptions:
    """What the user chooses beside target and place. "" leaves the choice to the target.

    level is the rule for the level, None for the target's own; with trims, silence at the ends goes.
    sound is which of several sounds of a film is meant, as inspect_file takes it. Without rewraps, what
    could be packed anew is converted.
    """

    when_present: WhenPresent = WhenPresent.SKIP
    pattern: str = ""
    suffix_text: str = ""
    file_system: str = ""
    level: LevelRule | None = None
    trims: bool = False
    sound: str = ""
    rewraps: bool = True

    def changes_sound(self, target: Target) -> bool:
        """Whether even what plays as it is must be made anew, since its samples change."""
        return self.trims or (self.level or target.level).mode in ("track", "album")

    def naming_for(self, target: Target) -> Naming:
        """Raises TargetError for a pattern that cannot be, OutputError for an unknown file system."""
        pattern = self.pattern or target.names.pattern
        if pattern:
            check_pattern(pattern)
        system = file_system_for(self.file_system or target.names.file_system)
        return Naming(pattern=pattern, suffix_text=self.suffix_text, system=system, longest=target.names.longest)


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
        return tuple(step for step in self.steps if step.writes)


def forecast_batch(
    sources: Sequence[Source],
    target: Target,
    place: Path,
    *,
    options: ForecastOptions | None = None,
    inspect: Callable[[Path], Facts] | None = None,
    ledger: ResultLedger | None = None,
) -> Forecast:
    """Plan every source for one target. Reads files, writes nothing.

    With a ledger, what it knows to be finished and unchanged is passed over without being opened.
    """
    options = options or ForecastOptions()
    inspect = inspect or partial(inspect_file, sound=options.sound)
    naming = options.naming_for(target)
    desk = _Desk(
        target=target,
        place=place,
        options=options,
        naming=naming,
        names=NamePool(naming),
        ledger=ledger,
        work=work_mark(target, f"{options!r}"),
        repeated=_repeated([source.path for source in sources]),
        source_ids=frozenset(filter(None, (_file_id(source.path) for source in sources))),
    )
    steps = [_step(number, source, inspect, desk) for number, source in enumerate(sources, 1)]
    return _judge_room(Forecast(steps=tuple(steps), free_bytes=_free_bytes(place)))


def _repeated(paths: Sequence[Path]) -> frozenset[Path]:
    counts = Counter(paths)
    return frozenset(path for path, count in counts.items() if count > 1)


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
        if step.writes and step.after:
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
    place: Path
    options: ForecastOptions
    naming: Naming
    names: NamePool
    ledger: ResultLedger | None
    work: str
    source_ids: frozenset[tuple[int, int]] = field(default_factory=frozenset)
    repeated: frozenset[Path] = field(default_factory=frozenset)


def _file_id(path: Path) -> tuple[int, int] | None:
    """What tells a file from all others, whatever names and links lead to it."""
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_dev, status.st_ino


def _step(number: int, source: Source, inspect: Callable[[Path], Facts], desk: _Desk) -> Step:
    # A source with several results would be found finished by any one of them.
    recognises = desk.options.when_present is WhenPresent.SKIP and source.path not in desk.repeated
    if desk.ledger is not None and recognises:
        entry = desk.ledger.finished(str(source.path.absolute()), desk.work)
        if entry is not None:
            desk.names.claim(Path(entry.output))
            return Step(
                source=Facts(path=str(source.path), size_bytes=entry.source_bytes, modified_ns=entry.source_ns),
                target=desk.target,
                action=Action.SKIP,
                reason="up to date",
                output=entry.output,
                work=desk.work,
            )
    return replace(_plan(number, source, inspect(source.path), desk), work=desk.work)


def plan_sound(
    facts: Facts,
    target: Target,
    treatment: Treatment | None = None,
    *,
    changes_sound: bool = False,
    rewraps: bool = True,
) -> Step:
    """What would be done with one track's sound; where the result goes is not settled yet.

    treatment is what is done to the sound beyond what the target itself asks for. changes_sound says
    that its samples are to change in a way that is not settled yet: then nothing is merely copied.
    """
    treatment = replace(treatment or Treatment(), highpass_hz=target.make.highpass_hz)
    touched = changes_sound or treatment != Treatment(highpass_hz=target.make.highpass_hz)
    fit = fit_to(facts, target)
    if fit.kind is FitKind.CANNOT:
        return Step(source=facts, target=target, action=Action.REFUSE, reason=fit.reason)
    if fit.kind is FitKind.PLAYS and not touched:
        return Step(source=facts, target=target, action=Action.COPY, reason=fit.reason, after=after_copy(facts))
    rewrap = rewrap_to(facts, target) if fit.kind is FitKind.REWRAP and rewraps and not touched else None
    if rewrap is not None:
        after = after_rewrap(facts, rewrap.container)
        return Step(
            source=facts,
            target=target,
            action=Action.REWRAP,
            reason=fit.reason,
            after=after,
            warnings=tuple(rewrap_warnings(facts, rewrap)),
        )
    reason = "its level or length is to change" if touched and fit.kind is not FitKind.CONVERT else fit.reason
    return _plan_conversion(facts, target, treatment, reason)


_BEYOND_FOUR_GIB = {"wav": "rf64", "wav-float": "rf64-float"}


def _plan_conversion(facts: Facts, target: Target, treatment: Treatment, reason: str) -> Step:
    encoding, shape = encoding_for(target.make.encoding), shape_for(facts, target)
    after = after_conversion(facts, encoding, shape, target.make.settings, treatment)
    if not after.samples:
        why = f"its {facts.samples} samples are less than one at {shape.sample_rate} Hz"
        return Step(source=facts, target=target, action=Action.REFUSE, reason=f"Too short for this target: {why}.")
    if encoding.largest_bytes is not None and after.size_bytes > encoding.largest_bytes - _ROOM_FOR_TAGS:
        larger = _BEYOND_FOUR_GIB.get(encoding.key)
        if larger is None:
            why = f"{encoding.label} cannot state more than 4 GiB, and this would take {after.size_bytes:,} bytes"
            return Step(source=facts, target=target, action=Action.REFUSE, reason=f"{why}. Choose another target.")
        encoding = encoding_for(larger)
        after = after_conversion(facts, encoding, shape, target.make.settings, treatment)
    return Step(
        source=facts,
        target=target,
        action=Action.CONVERT,
        reason=reason,
        after=after,
        shape=shape,
        encoding=encoding.key,
        treatment=treatment,
        warnings=(*sound_warnings(facts, after, shape), *tag_warnings(facts, encoding)),
    )


_ROOM_FOR_TAGS = 64 * 1024 * 1024


def _plan(number: int, source: Source, facts: Facts, desk: _Desk) -> Step:
    step = plan_sound(
        facts, desk.target, changes_sound=desk.options.changes_sound(desk.target), rewraps=desk.options.rewraps
    )
    if step.action is Action.REFUSE:
        if not source.named and not facts.sample_rate and source.path.suffix.lower() not in SOUND_SUFFIXES:
            return replace(step, action=Action.SKIP, reason="not a sound file")
        return step
    return _placed(step, number, source, _suffix(step), desk)


def _suffix(step: Step) -> str:
    if step.action is Action.CONVERT:
        return encoding_for(step.encoding).suffix
    if step.action is Action.REWRAP:
        rewrap = rewrap_to(step.source, step.target)
        return rewrap.suffix if rewrap else ""
    return _right_suffix(step.source)


def _right_suffix(facts: Facts) -> str:
    """The file's own ending where it is right for its content, else the one it should have."""
    own = Path(facts.path).suffix
    row = CONTAINER_BY_KEY[facts.container]
    return own if own.lower() in row.suffixes else row.suffixes[0]


def _placed(step: Step, number: int, source: Source, suffix: str, desk: _Desk) -> Step:
    """Settle the name, without ever landing on any source or on another result of the batch."""
    when_present, naming = desk.options.when_present, desk.naming
    wanted = desk.place / naming.relative_path(source.relative, step.source, step.target, suffix, number)
    warnings = list(step.warnings)
    if not naming.pattern and naming.changed(source.path.stem + naming.suffix_text, wanted):
        why = naming.why_changed(source.path.stem + naming.suffix_text)
        warnings.append(Warning(code=WarningCode.NAME_CHANGED, text=f"The name {why}; it becomes {wanted.name}."))
    output = desk.names.claim_numbered(wanted, skip_existing=when_present is WhenPresent.NUMBER)
    if _file_id(output) in desk.source_ids:
        output = desk.names.claim_numbered(wanted, skip_existing=True)
    if output != wanted:
        text = f"Another file is named {wanted.name}, so this one becomes {output.name}."
        warnings.append(Warning(code=WarningCode.SAME_NAME, text=text))
    if step.after and step.after.size_bytes > naming.system.largest_file_bytes:
        reason = f"{naming.system.label} holds files of at most {naming.system.largest_file_bytes:,} bytes"
        return replace(step, action=Action.REFUSE, reason=f"{reason}. Choose another target or place.")
    step = replace(step, output=str(output), warnings=tuple(warnings))
    if when_present is WhenPresent.SKIP and output.exists():
        return _present(step, desk)
    return replace(step, replaces=when_present is WhenPresent.REPLACE)


def _present(step: Step, desk: _Desk) -> Step:
    """A file of that name stays; if it is our own result of something older, that is said."""
    entry = desk.ledger.made(step.output) if desk.ledger else None
    warnings: tuple[Warning, ...] = ()
    if entry is not None and entry.source == str(Path(step.source.path).absolute()):
        text = "What is there was made before the source or the settings changed. Choose replace to make it anew."
        warnings = (Warning(code=WarningCode.STALE, text=text),)
    return replace(step, action=Action.SKIP, reason="already there", warnings=warnings)
