"""Who carries out which kind of job. Apps register theirs when they are ready."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .services.run_job import Desk

__all__ = [
    "Ending",
    "JobKind",
    "at_start",
    "kind_for",
    "kinds",
    "now_and_then",
    "register",
    "regular_actions",
    "start_actions",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Ending:
    """How a job ended: state is done, failed or stopped; message what came of it, reason why it failed. failures is how
    many of the things it worked on did."""

    state: str
    message: str = ""
    reason: str = ""
    failures: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class JobKind:
    """run carries out the work on a subject, reports at its desk and returns a sentence about the result.

    address is the page of the subject. continues says that stopped work goes on where it was, in_turn that only one
    of the kind is carried out at a time, and pauses that its work begins nothing new while Desk.holding says so. ended is
    told, in the transaction that ends the job, how it ends; also when its worker died and it cannot go on.
    """

    key: str
    run: "Callable[[Desk, int], str]"
    address: Callable[[int], str]
    continues: bool = True
    in_turn: bool = False
    pauses: bool = False
    ended: Callable[[int, Ending], None] = lambda subject, ending: None


_KINDS: dict[str, JobKind] = {}
_AT_START: list[Callable[[], object]] = []
_NOW_AND_THEN: list[Callable[[], object]] = []


def register(kind: JobKind) -> None:
    _KINDS[kind.key] = kind


def kind_for(key: str) -> JobKind | None:
    """The kind of a key; None for work of a version that is no longer installed."""
    return _KINDS.get(key)


def kinds() -> tuple[JobKind, ...]:
    return tuple(_KINDS.values())


def at_start(action: Callable[[], object]) -> None:
    """Have something done once when the application is started, before the first job runs."""
    if action not in _AT_START:
        _AT_START.append(action)


def start_actions() -> tuple[Callable[[], object], ...]:
    return tuple(_AT_START)


def now_and_then(action: Callable[[], object]) -> None:
    """Have something done about every minute while the application runs. It decides itself what is due."""
    if action not in _NOW_AND_THEN:
        _NOW_AND_THEN.append(action)


def regular_actions() -> tuple[Callable[[], object], ...]:
    return tuple(_NOW_AND_THEN)
