"""The order of a list: every way of changing it, as a new list of the same rows."""

import hashlib
from collections import Counter
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from typing import Any

from rumbrel.core.errors import PlaylistError

__all__ = [
    "INTERLEAVES",
    "ORDERS",
    "ListRow",
    "interleaved",
    "moved",
    "shuffled",
    "sorted_by",
    "stepped",
    "turned_round",
    "without",
    "without_doubles",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class ListRow:
    """A row of a list: entry tells it from the others, 0 for a new one. The words are for sorting alone."""

    entry: int
    track: int
    title: str = ""
    performer: str = ""
    album: str = ""
    folder: str = ""
    seconds: float = 0.0
    year: int = 0


Rows = list[ListRow]


def _known(rows: Sequence[ListRow], entries: Collection[int]) -> None:
    """Raises PlaylistError when one of the entries is no longer on the list."""
    if set(entries) - {row.entry for row in rows}:
        raise PlaylistError("One of those entries is no longer on the list. See the list as it is now.")


def moved(rows: Sequence[ListRow], entries: Collection[int], before: int | None) -> Rows:
    """Some rows, in the order that they have, before another one, or to the end."""
    _known(rows, entries)
    going = [row for row in rows if row.entry in entries]
    if before in entries:
        return list(rows)
    rest = [row for row in rows if row.entry not in entries]
    at = len(rest)
    if before is not None:
        _known(rows, [before])
        at = next(number for number, row in enumerate(rest) if row.entry == before)
    return [*rest[:at], *going, *rest[at:]]


def stepped(rows: Sequence[ListRow], entries: Collection[int], way: str) -> Rows:
    """Some rows together: one up or down, to the top or to the end."""
    _known(rows, entries)
    at = [number for number, row in enumerate(rows) if row.entry in entries]
    if not at:
        return list(rows)
    going = [rows[number] for number in at]
    rest = [row for row in rows if row.entry not in entries]
    places = {"top": 0, "end": len(rest), "up": max(0, at[0] - 1), "down": min(len(rest), at[0] + 1)}
    place = places[way]
    return [*rest[:place], *going, *rest[place:]]


def _words(text: str) -> tuple[bool, str]:
    """Nothing comes last."""
    return not text, text.casefold()


ORDERS: dict[str, tuple[str, Callable[[ListRow], Any]]] = {
    "title": ("title", lambda row: _words(row.title)),
    "performer": ("performer", lambda row: (_words(row.performer), _words(row.album))),
    "album": ("album", lambda row: (_words(row.album), row.folder.casefold())),
    "folder": ("folder", lambda row: row.folder.casefold()),
    "length": ("length, the shortest first", lambda row: row.seconds),
    "year": ("year", lambda row: (row.year == 0, row.year)),
}
"""By what a list can be sorted; equal rows keep the order that they have."""


def sorted_by(rows: Sequence[ListRow], order: str) -> Rows:
    return sorted(rows, key=ORDERS[order][1])


def turned_round(rows: Sequence[ListRow]) -> Rows:
    return list(reversed(rows))


def shuffled(rows: Sequence[ListRow], seed: str) -> Rows:
    """An order by chance that the same seed gives again for the same list, whatever order it is in."""
    seen: Counter[int] = Counter()
    keys: dict[int, bytes] = {}
    for row in sorted(rows, key=lambda row: (row.track, row.entry)):
        seen[row.track] += 1
        text = f"{seed}/{row.track}/{seen[row.track]}"
        keys[id(row)] = hashlib.blake2b(text.encode("utf-8", "surrogateescape"), digest_size=16).digest()
    return sorted(rows, key=lambda row: keys[id(row)])


INTERLEAVES: dict[str, tuple[str, Callable[[ListRow], str]]] = {
    "performer": ("performers", lambda row: row.performer.casefold()),
    "album": ("albums", lambda row: row.album.casefold()),
    "folder": ("folders", lambda row: row.folder.casefold()),
}


def interleaved(rows: Sequence[ListRow], by: str) -> Rows:
    """What belongs together is spread evenly over the list: of n rows, the first lies half an n-th in, the next an
    n-th behind it. Within each the order stays."""
    groups: dict[str, Rows] = {}
    for row in rows:
        groups.setdefault(INTERLEAVES[by][1](row), []).append(row)
    placed = [
        ((number + 0.5) / len(group), turn, row)
        for turn, group in enumerate(groups.values())
        for number, row in enumerate(group)
    ]
    return [row for _, _, row in sorted(placed, key=lambda each: each[:2])]


def without(rows: Sequence[ListRow], entries: Collection[int]) -> Rows:
    """Entries that are gone already are passed over."""
    return [row for row in rows if row.entry not in entries]


def without_doubles(rows: Sequence[ListRow]) -> Rows:
    """Each track once, where it came first."""
    seen: set[int] = set()
    return [row for row in rows if not (row.track in seen or seen.add(row.track))]  # type: ignore[func-returns-value]
