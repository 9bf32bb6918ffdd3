"""What was made of a thing and what holds it: apps that know say so here."""

from collections.abc import Callable
from dataclasses import dataclass

__all__ = ["Trace", "TraceRow", "add_trace", "traces_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TraceRow:
    """One thing that was made or that holds it, what to know of it, and its page ("" for none)."""

    name: str
    detail: str = ""
    address: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Trace:
    """Rows below one heading; total says how many there are where not all are shown."""

    heading: str
    rows: tuple[TraceRow, ...] = ()
    total: int = 0


_TRACES: dict[str, list[Callable[[int], Trace]]] = {}


def add_trace(noun: str, source: Callable[[int], Trace]) -> None:
    """Have a source asked about things of a noun ("track"), by their ids."""
    _TRACES.setdefault(noun, []).append(source)


def traces_of(noun: str) -> tuple[Callable[[int], Trace], ...]:
    return tuple(_TRACES.get(noun, ()))
