"""The deep look at many tracks on all cores: each is decoded once, and what that tells is kept with its picture."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.crew import Death, Tell
from rumbrel.core.errors import DecodeError, OutputError
from rumbrel.core.inspection import DeepFacts, Fault, FaultCode, inspect_deep, inspect_file
from rumbrel.core.inspection.stretches import Part, cut_out
from rumbrel.core.progress import Progress, Unit

from .crewed import carried_out

__all__ = ["LookTask", "Looked", "look_at_tracks"]


@dataclass(frozen=True, slots=True, kw_only=True)
class LookTask:
    """A file to look at, where its picture goes, about how long its sound is, and which of several it is (as
    inspect_file takes it), and which part of it."""

    id: int
    path: Path
    picture: Path
    seconds: float
    sound: str = ""
    part: Part | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Looked:
    """What was found in the file of a task, and which of its faults only decoding showed; error says why nothing
    was, or why no picture could be kept. of_file is False where the reason lies in the surroundings and not in the file:
    then nothing of it is to be kept."""

    id: int
    found: DeepFacts | None
    shown: tuple[Fault, ...] = ()
    error: str = ""
    of_file: bool = True


def _look(task: LookTask, tell: Tell) -> Looked:
    facts = inspect_file(task.path, sound=task.sound)
    if any(fault.code is FaultCode.MISSING for fault in facts.faults):
        return Looked(id=task.id, found=None, error="The file is not there. Connect its disk, then analyse it again.")
    try:
        facts = cut_out(facts, task.part) if task.part else facts
        found = inspect_deep(facts, progress=tell, picture_file=task.picture)
        shown = tuple(fault for fault in found.facts.faults if fault not in facts.faults)
        return Looked(id=task.id, found=found, shown=shown)
    except (DecodeError, OutputError) as error:
        return Looked(id=task.id, found=None, error=str(error))


def _lost(task: LookTask, death: Death) -> Looked:
    return Looked(id=task.id, found=None, error=death.text(task.path.name), of_file=death.crashed)


def look_at_tracks(tasks: Sequence[LookTask], *, jobs: int) -> Iterator[Looked | Progress]:
    """Yield each track's findings as they come, with Progress in seconds of sound. Closing the iterator stops the work."""
    longest_first = sorted(tasks, key=lambda task: task.seconds, reverse=True)
    return carried_out(
        _look,
        longest_first,
        jobs=jobs,
        weigh=lambda task: max(task.seconds, 0.1),
        unit=Unit.SECONDS,
        step="looking",
        lost=_lost,
    )
