"""Who carries out which kind of job. Apps register theirs when they are ready."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .services.run_job import Desk

__all__ = ["JobKind", "at_start", "kind_for", "register", "start_actions"]


@dataclass(frozen=True, slots=True, kw_only=True)
class JobKind:
    """run carries out the work on a subject, reports at its desk and returns a sentence about the result.

    address is the page of the subject. continues says that stopped work goes on where it was. ended is
    told when a job of this kind has ended in whatever way, and interrupted when its worker died.
    """

    key: str
    run: "Callable[[Desk, int], str]"
    address: Callable[[int], str]
    continues: bool = True
    ended: Callable[[int], None] = lambda subject: None


_KINDS: dict[str, JobKind] = {}
_AT_START: list[Callable[[], object]] = []


def register(kind: JobKind) -> None:
    _KINDS[kind.key] = kind


def kind_for(key: str) -> JobKind | None:
    """The kind of a key; None for work of a version that is no longer installed."""
    return _KINDS.get(key)


def at_start(action: Callable[[], object]) -> None:
    """Have something done once when the application is started, before the first job runs."""
    if action not in _AT_START:
        _AT_START.append(action)


def start_actions() -> tuple[Callable[[], object], ...]:
    return tuple(_AT_START)
