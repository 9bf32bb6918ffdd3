"""Entries of a list that came from elsewhere against the sounds that are known here, by their paths, lengths and names."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import PurePath

from .model import ListEntry

__all__ = ["Found", "KnownSound", "Match", "match_entries"]

_LENGTH_SLACK_SECONDS = 2.0
"""Lists state whole seconds, and formats add some silence."""


class Found(StrEnum):
    FOUND = "found"
    ELSEWHERE = "found elsewhere"
    MISSING = "missing"


@dataclass(frozen=True, slots=True)
class KnownSound:
    id: int
    path: str
    title: str
    seconds: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """What became of an entry: the sound's id, None for none, where it is, and why it is missing."""

    entry: ListEntry
    state: Found
    id: int | None = None
    path: str = ""
    reason: str = ""


def _parts(written: str) -> tuple[str, ...]:
    """The folders and the name of a place, whichever way it is written, in small letters."""
    return tuple(part.casefold() for part in re.split(r"[\\/]+", written) if part and not part.endswith(":"))


class _Known:
    """The sounds by their names and by their names without endings."""

    def __init__(self, sounds: Iterable[KnownSound]) -> None:
        self.by_path: dict[str, KnownSound] = {}
        self.by_name: dict[str, list[tuple[tuple[str, ...], KnownSound]]] = {}
        for sound in sounds:
            parts = _parts(sound.path)
            self.by_path.setdefault(sound.path, sound)
            if parts:
                for name in {parts[-1], PurePath(parts[-1]).stem}:
                    self.by_name.setdefault(name, []).append((parts, sound))


def match_entries(entries: Sequence[ListEntry], sounds: Iterable[KnownSound]) -> list[Match]:
    """What each entry is here. A place that is known is believed; the same name in the same folder too. A name alone
    is believed where its length agrees, or where there is one such sound and the list states no length."""
    known = _Known(sounds)
    return [_matched(entry, known) for entry in entries]


def _matched(entry: ListEntry, known: _Known) -> Match:
    written = entry.written or str(entry.path)
    if re.match(r"(?i)^(https?|rtsp|mms)://", written):
        return Match(entry=entry, state=Found.MISSING, reason="an address on the network, not a file")
    exact = known.by_path.get(str(entry.path)) or known.by_path.get(written)
    if exact is not None:
        return Match(entry=entry, state=Found.FOUND, id=exact.id, path=exact.path)
    parts = _parts(written)
    if not parts:
        return Match(entry=entry, state=Found.MISSING, reason="the list names no file")
    for name in (parts[-1], PurePath(parts[-1]).stem):
        candidates = known.by_name.get(name, [])
        agreeing = [each for each in candidates if _agrees(entry, each[1]) is not False]
        best = _nearest(parts, agreeing)
        if best is not None:
            in_its_folder = len(parts) > 1 and name == parts[-1] and _shared(parts, _parts(best.path)) > 1
            state = Found.FOUND if in_its_folder else Found.ELSEWHERE
            return Match(entry=entry, state=state, id=best.id, path=best.path)
        if len(agreeing) > 1:
            return Match(
                entry=entry, state=Found.MISSING, reason="several files of this name are here; which is meant?"
            )
        if candidates and not agreeing:
            return Match(
                entry=entry, state=Found.MISSING, reason="a file of this name is here, but its length is another"
            )
    return Match(entry=entry, state=Found.MISSING, reason="no such file is in the collection")


def _agrees(entry: ListEntry, sound: KnownSound) -> bool | None:
    """By the length that the list states; None where it states none."""
    if not entry.seconds or entry.seconds <= 0:
        return None
    return abs(sound.seconds - entry.seconds) <= _LENGTH_SLACK_SECONDS


def _shared(one: Sequence[str], other: Sequence[str]) -> int:
    """How many parts two places have alike, from the name upwards."""
    count = 0
    for mine, yours in zip(reversed(one), reversed(other), strict=False):
        if mine != yours:
            break
        count += 1
    return count


def _nearest(parts: Sequence[str], candidates: Sequence[tuple[tuple[str, ...], KnownSound]]) -> KnownSound | None:
    """The one whose folders are most alike; None where several are equally so and no length tells them apart."""
    if not candidates:
        return None
    ranked = sorted(candidates, key=lambda each: -_shared(parts[:-1], each[0][:-1]))
    first = _shared(parts[:-1], ranked[0][0][:-1])
    alike = [sound for place, sound in ranked if _shared(parts[:-1], place[:-1]) == first]
    return alike[0] if len(alike) == 1 else None
