"""Inspect many files on all cores, in their order; a file whose reading ends a process is told as such."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from rumbrel.core.crew import Crew, Death, Tell
from rumbrel.core.progress import Progress, Report, Unit, no_report

from .deep import DeepFacts, inspect_deep
from .facts import Facts, Fault, FaultCode
from .inspect import inspect_file

__all__ = ["inspect_many"]

_FEW = 24
"""Below this many headers, starting workers takes longer than reading."""
_FILES_A_TURN = 32


@dataclass(frozen=True, slots=True, kw_only=True)
class _How:
    deep: bool
    sound: str


def _inspect(path: Path, how: _How, tell: Tell | None = None) -> DeepFacts:
    facts = inspect_file(path, sound=how.sound)
    if not how.deep:
        return DeepFacts(facts=facts)
    return inspect_deep(facts, progress=tell or (lambda share: None))


def _inspect_turn(turn: tuple[Path, ...], tell: Tell, *, how: _How) -> list[DeepFacts]:
    found = []
    for number, path in enumerate(turn):
        tell(number / len(turn))
        found.append(_inspect(path, how, tell if len(turn) == 1 else None))
    return found


def _lost(turn: tuple[Path, ...], death: Death) -> list[DeepFacts] | None:
    """Of several files in one turn nobody knows which it was: each gets a turn of its own."""
    if len(turn) > 1:
        return None
    code = FaultCode.UNREADABLE if death.crashed else FaultCode.NOT_INSPECTED
    fault = Fault(code=code, text=death.text("this file"))
    try:
        status = turn[0].stat()
    except OSError:
        return [DeepFacts(facts=Facts(path=str(turn[0]), faults=(fault,)))]
    facts = Facts(path=str(turn[0]), size_bytes=status.st_size, modified_ns=status.st_mtime_ns, faults=(fault,))
    return [DeepFacts(facts=facts)]


def inspect_many(
    paths: Sequence[Path], *, deep: bool, jobs: int, sound: str = "", report: Report = no_report
) -> Iterator[DeepFacts]:
    """Facts of each file in the order given; deep decodes every file throughout. sound is as inspect_file takes it."""
    how = _How(deep=deep, sound=sound)
    if jobs < 2 or (len(paths) < _FEW and not deep) or len(paths) < 2:
        for number, path in enumerate(paths, 1):
            yield _inspect(path, how)
            report(_progress(number, len(paths)))
        return
    size = 1 if deep else _FILES_A_TURN
    turns = [tuple(paths[start : start + size]) for start in range(0, len(paths), size)]
    waiting: dict[int, list[DeepFacts]] = {}
    next_turn = done = 0
    with Crew(partial(_inspect_turn, how=how), turns, jobs=jobs, lost=_lost) as crew:
        for event in crew.results():
            if event is None:
                report(_progress(sum(s * len(t) for s, t in zip(crew.shares(), turns, strict=True)), len(paths)))
                continue
            found = event.result
            waiting[event.number] = found if found is not None else _one_by_one(turns[event.number], how)
            while next_turn in waiting:
                for each in waiting.pop(next_turn):
                    done += 1
                    yield each
                next_turn += 1
    report(_progress(done, len(paths)))


def _one_by_one(turn: tuple[Path, ...], how: _How) -> list[DeepFacts]:
    """A turn that ended its worker, file by file; only the one that does so is lost."""
    singles = [(path,) for path in turn]
    found: dict[int, DeepFacts] = {}
    with Crew(partial(_inspect_turn, how=how), singles, jobs=1, lost=_lost) as crew:
        for event in crew.results():
            if event is not None and event.result:
                found[event.number] = event.result[0]
    return [found[number] for number in range(len(turn))]


def _progress(done: float, total: int) -> Progress:
    return Progress(done=done, total=total, unit=Unit.FILES, step="reading", finished=int(done), items=total)
