"""From Facts and a Target to Steps."""

import os
import shutil
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import partial
from pathlib import Path

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.errors import OutputError
from rumbrel.core.files import file_digest
from rumbrel.core.formats.table import CONTAINER_BY_KEY, SOUND_SUFFIXES
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.inspection.inspect import inspect_file
from rumbrel.core.places import as_it_lies, file_system_for, mounted_kind
from rumbrel.core.tags import with_fields
from rumbrel.core.targets.model import LevelRule, Target
from rumbrel.core.targets.pattern import check_pattern

from .ledger import ResultLedger, short_mark, work_mark
from .naming import NamePool, Naming
from .planning import plan_sound
from .sources import Source
from .steps import Action, Step, Warning, WarningCode

__all__ = ["SAME_CONTENT", "Forecast", "ForecastOptions", "WhenPresent", "forecast_batch"]

SAME_CONTENT = "the same file is there"
"""The reason of a step that found its result there by another hand, equal byte for byte."""


class WhenPresent(StrEnum):
    """What to do where a result of that name is already there."""

    SKIP = "skip"
    REPLACE = "replace"
    NUMBER = "number"


class Present(StrEnum):
    """What to do where a file is at a result's destination, for a volume that is kept up to date: names prove
    nothing there."""

    KEEP = "keep"
    UPDATE = "update"
    BESIDE = "beside"


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastOptions:
    """What the user chooses beside target and destination. "" leaves the choice to the target.

    level is the rule for the level, None for the target's own; with trims, silence at the ends goes.
    sound is which of several sounds of a film is meant, as inspect_file takes it. Without rewraps, what
    could be repackaged is converted. keeps_in_line brings what an earlier run made of a source up to date, and
    puts what is there by another's hand aside instead of taking it for done (see Present). beside puts each result
    into the folder of its source, whatever the destination; a pattern's folders are made there.
    """

    when_present: WhenPresent = WhenPresent.SKIP
    pattern: str = ""
    name_addition: str = ""
    file_system: str = ""
    level: LevelRule | None = None
    trims: bool = False
    sound: str = ""
    rewraps: bool = True
    keeps_in_line: bool = False
    beside: bool = False

    def changes_sound(self, target: Target) -> bool:
        """Whether even what plays as it is must be made anew, since its samples change."""
        return self.trims or (self.level or target.level).mode in ("track", "album")

    def naming_for(self, target: Target) -> Naming:
        """Raises TargetError for a pattern that cannot be, OutputError for an unknown file system."""
        pattern = self.pattern or target.names.pattern
        if pattern:
            check_pattern(pattern)
        system = file_system_for(self.file_system or target.names.file_system)
        return Naming(pattern=pattern, addition=self.name_addition, system=system, longest=target.names.longest)


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """Steps in the order of the sources; free_bytes is the room there, None where unknown."""

    steps: tuple[Step, ...]
    free_bytes: int | None

    @property
    def bytes_before(self) -> int:
        return sum(step.source.sound_bytes for step in self.working)

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
    destination: Path,
    *,
    options: ForecastOptions | None = None,
    inspect: Callable[[Path], Facts] | None = None,
    ledger: ResultLedger | None = None,
    taken: set[str] | None = None,
) -> Forecast:
    """Plan every source for one target. Reads files, writes nothing.

    With a ledger, what it knows to be finished and unchanged is passed over without being opened. taken are the
    names that other forecasts of the same run gave out at this destination; this one's are added.
    """
    options = options or ForecastOptions()
    inspect = inspect or partial(inspect_file, sound=options.sound)
    naming = options.naming_for(target)
    desk = _Desk(
        target=target,
        destination=destination,
        options=options,
        naming=naming,
        names=NamePool(naming, taken, ignores_case=_ignores_case(naming, destination)),
        ledger=ledger,
        # What is done with a taken name makes no other result.
        work=work_mark(target, f"{replace(options, when_present=WhenPresent.SKIP, keeps_in_line=False)!r}"),
        changes_sound=options.changes_sound(target),
        tags_levels=(options.level or target.level).mode == "tags",
        repeated=_repeated([source.key for source in sources]),
        source_ids=frozenset(filter(None, (_file_id(source.path) for source in sources))),
    )
    steps = [_step(number, source, inspect, desk) for number, source in enumerate(sources, 1)]
    room_at = sources[0].path.parent if options.beside and sources else destination
    return _judge_room(Forecast(steps=tuple(steps), free_bytes=_free_bytes(room_at)))


def _ignores_case(naming: Naming, destination: Path) -> bool:
    """Whether two names at the destination are one that differ in case alone. The file systems of this machine keep them
    apart, but for those that sticks and other systems have."""
    if naming.system.key != "native":
        return True
    there = next((folder for folder in (destination, *destination.parents) if folder.is_dir()), Path("/"))
    try:
        kind, _ = mounted_kind(there)
    except OutputError:
        return True
    return kind.file_system != "native"


def _repeated(paths: Sequence[Path]) -> frozenset[Path]:
    counts = Counter(paths)
    return frozenset(path for path, count in counts.items() if count > 1)


def _free_bytes(destination: Path) -> int | None:
    """Room at the nearest folder above that exists."""
    for folder in (destination, *destination.parents):
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
                text = "There will be no room left for this one. Free some space or choose another destination."
                step = replace(step, warnings=(*step.warnings, Warning(code=WarningCode.NO_ROOM, text=text)))
        steps.append(step)
    return replace(forecast, steps=tuple(steps))


@dataclass(frozen=True, slots=True, kw_only=True)
class _Desk:
    """What is the same for every step of one forecast, and the names and folders given out so far."""

    target: Target
    destination: Path
    options: ForecastOptions
    naming: Naming
    names: NamePool
    ledger: ResultLedger | None
    work: str
    changes_sound: bool
    tags_levels: bool
    folders: dict[tuple[str, ...], Path] = field(default_factory=dict)
    source_ids: frozenset[tuple[int, int]] = field(default_factory=frozenset)
    repeated: frozenset[Path] = field(default_factory=frozenset)
    seen_folders: dict[Path, bool] = field(default_factory=dict)

    def has_folder(self, folder: Path) -> bool:
        """Whether a folder is there: where it is not, no file of it needs to be asked for."""
        if folder not in self.seen_folders:
            self.seen_folders[folder] = folder.is_dir()
        return self.seen_folders[folder]


def _file_id(path: Path) -> tuple[int, int] | None:
    """What tells a file from all others, whatever names and links lead to it."""
    try:
        status = os.stat(path)
    except OSError:
        return None
    return status.st_dev, status.st_ino


def _step(number: int, source: Source, inspect: Callable[[Path], Facts], desk: _Desk) -> Step:
    # A source with several results would be found finished by any one of them.
    skips = desk.options.when_present is WhenPresent.SKIP and not desk.options.keeps_in_line
    recognises = skips and source.key not in desk.repeated
    work = _work_of(source, desk)
    if desk.ledger is not None and recognises:
        entry = desk.ledger.finished(str(source.key.absolute()), work)
        if entry is not None:
            desk.names.claim(Path(entry.output))
            return Step(
                source=inspect(source.key)
                if source.part
                else Facts(path=str(source.path), size_bytes=entry.source_bytes, modified_ns=entry.source_ns),
                target=desk.target,
                action=Action.SKIP,
                reason="up to date",
                source_id=source.id,
                output=entry.output,
                work=work,
            )
    return _plan(number, source, inspect(source.key), desk, work)


def _work_of(source: Source, desk: _Desk) -> str:
    """What is made of a source, as a mark: its own name and tags are a part of that."""
    return (
        f"{desk.work}-{short_mark(repr((source.name, source.fields, source.bare, source.cover)))}"
        if source.name or source.changes_tags
        else desk.work
    )


def _plan(number: int, source: Source, facts: Facts, desk: _Desk, work: str) -> Step:
    step = plan_sound(
        facts,
        desk.target,
        changes_sound=desk.changes_sound,
        rewraps=desk.options.rewraps,
        source_id=source.id,
        work=work,
    )
    if step.action is Action.REFUSE:
        if not source.named and not facts.sample_rate and source.path.suffix.lower() not in SOUND_SUFFIXES:
            return replace(step, action=Action.SKIP, reason="not a sound file")
        return step
    return _placed(step, number, source, _suffix(step), desk)


def _suffix(step: Step) -> str:
    if step.action is Action.CONVERT:
        return encoding_for(step.encoding).suffix
    if step.rewrap is not None:
        return step.rewrap.suffix
    return _right_suffix(step.source)


def _right_suffix(facts: Facts) -> str:
    """The file's own ending where it is right for its content, else the one it should have."""
    own = Path(facts.path).suffix
    row = CONTAINER_BY_KEY[facts.container]
    return own if own.lower() in row.suffixes else row.suffixes[0]


def _placed(step: Step, number: int, source: Source, suffix: str, desk: _Desk) -> Step:
    """Settle the name, without ever landing on any source or on another result of the batch."""
    when_present, naming = desk.options.when_present, desk.naming
    named = step.source
    if source.fields:
        step = replace(step, extra_fields=source.fields)
        named = replace(named, tags=with_fields(named.tags, source.fields))
    if source.bare or source.cover:
        step = replace(step, bare=source.bare, cover=source.cover)
    if source.cover and step.target.tags.covers == "none":
        text = "The target takes no pictures, so the one that was chosen is left out."
        step = replace(step, warnings=(*step.warnings, Warning(code=WarningCode.TAGS_LOST, text=text)))
    folders, stem = naming.parts(source.relative, named, step.target, number)
    own = source.name or ("" if naming.pattern else source.stem + naming.addition)
    if desk.options.beside:
        asked = source.name or source.changes_tags or naming.addition or naming.pattern
        if step.action is Action.COPY and not (asked or desk.tags_levels):
            return replace(step, action=Action.SKIP, reason=f"{step.reason}, and it is there already")
        base = source.path.parent / naming.folder(folders if naming.pattern else ())
    else:
        if folders not in desk.folders:
            desk.folders[folders] = as_it_lies(desk.destination, naming.folder(folders).parts)
        base = desk.folders[folders]
    wanted = base / naming.name(source.name or stem, suffix)
    warnings = list(step.warnings)
    if own and naming.changed(own, wanted):
        why = naming.why_changed(own)
        warnings.append(Warning(code=WarningCode.NAME_CHANGED, text=f"The name {why}; it becomes {wanted.name}."))
    wanted = as_it_lies(base, (wanted.name,))
    output = desk.names.claim_numbered(wanted, skip_existing=when_present is WhenPresent.NUMBER)
    there = _file_id(output) if desk.has_folder(output.parent) else None
    if there in desk.source_ids:
        output = desk.names.claim_numbered(wanted, skip_existing=True)
        there = _file_id(output)
    if output != wanted:
        text = f"Another file is named {wanted.name}, so this one becomes {output.name}."
        warnings.append(Warning(code=WarningCode.SAME_NAME, text=text))
    if step.after and step.after.size_bytes > naming.system.largest_file_bytes:
        reason = f"{naming.system.label} holds files of at most {naming.system.largest_file_bytes:,} bytes"
        return replace(step, action=Action.REFUSE, reason=f"{reason}. Choose another target or destination.")
    replaces = when_present is WhenPresent.REPLACE
    if desk.options.keeps_in_line and there is not None:
        entry = desk.ledger.finished(str(Path(step.source.key).absolute()), desk.work) if desk.ledger else None
        if entry is not None and _is_numbered(Path(entry.output), wanted):
            desk.names.claim(Path(entry.output))
            return replace(step, action=Action.SKIP, reason="up to date", output=entry.output)
        found = _found_there(step, output, desk)
        if found is Present.KEEP:
            return replace(step, action=Action.SKIP, reason=SAME_CONTENT, output=str(output))
        replaces = found is Present.UPDATE
        if found is Present.BESIDE:
            output = desk.names.claim_numbered(wanted, skip_existing=True)
            text = f"Another file is named {wanted.name} there and is kept, so this one becomes {output.name}."
            warnings.append(Warning(code=WarningCode.SAME_NAME, text=text))
    elif when_present is WhenPresent.SKIP and there is not None:
        return _present(step, str(output), desk)
    return replace(step, output=str(output), warnings=tuple(warnings), replaces=replaces)


def _is_numbered(output: Path, wanted: Path) -> bool:
    """Whether a result has the name that it should have, or that name with a number."""
    same_kind = (output.parent, output.suffix) == (wanted.parent, wanted.suffix)
    return same_kind and (output.stem == wanted.stem or output.stem.startswith(f"{wanted.stem} ("))


def _found_there(step: Step, output: Path, desk: _Desk) -> Present:
    """By the ledger, and where that knows nothing by size and digest."""
    source = str(Path(step.source.key).absolute())
    if desk.ledger and desk.ledger.was_made_of(str(output), source):
        return Present.UPDATE
    copied = step.action is Action.COPY and not step.changes_tags
    if copied and output.stat().st_size == step.source.size_bytes and file_digest(output) == file_digest(Path(source)):
        return Present.KEEP
    return Present.BESIDE


def _present(step: Step, output: str, desk: _Desk) -> Step:
    """A file of that name stays; if it is our own result of something older, that is said."""
    entry = desk.ledger.made(output) if desk.ledger else None
    warnings: tuple[Warning, ...] = ()
    if entry is not None and entry.key == str(Path(step.source.key).absolute()):
        text = "The existing result was made before the source or the settings changed. To make it again, choose to replace it."
        warnings = (Warning(code=WarningCode.STALE, text=text),)
    return replace(step, action=Action.SKIP, reason="already there", output=output, warnings=warnings)
