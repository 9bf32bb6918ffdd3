"""What else goes when something is removed: apps that refer to it say so here."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

__all__ = ["Holder", "add_holder", "holders_of"]


def _nothing() -> None:
    return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Holder:
    """Something that refers to things of a noun ("track", "playlist"), which it is asked about by their ids.

    said tells in words what of it goes with them, "" for nothing. refuses says why they may not go now, ""
    where they may. settle, asked before they go, returns what brings it into line once they are gone.
    """

    said: Callable[[Sequence[int]], str]
    refuses: Callable[[Sequence[int]], str] = lambda ids: ""
    settle: Callable[[Sequence[int]], Callable[[], None]] = lambda ids: _nothing


_HOLDERS: dict[str, list[Holder]] = {}


def add_holder(noun: str, holder: Holder) -> None:
    _HOLDERS.setdefault(noun, []).append(holder)


def holders_of(noun: str) -> tuple[Holder, ...]:
    return tuple(_HOLDERS.get(noun, ()))
