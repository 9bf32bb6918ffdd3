"""Pieces into the fewest discs: good rules first, then a search that proves the number where it can."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from .subsets import fullest_subset

__all__ = ["Packing", "Total", "even_runs", "full_runs", "pack"]

_SEARCH_STEPS = 60_000
"""Steps of the search before it gives up proving; a count and not a time, so that results repeat."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Packing:
    """discs hold the positions of the pieces; proved says that no packing takes fewer discs."""

    discs: tuple[tuple[int, ...], ...]
    proved: bool


def pack(sizes: Sequence[int], capacity: int, *, most_pieces: int, counts: Sequence[int] | None = None) -> Packing:
    """Pack pieces, none larger than capacity, in any order.

    counts is how many tracks each piece holds; a disc takes at most most_pieces of them.
    """
    if not sizes:
        return Packing(discs=(), proved=True)
    weights = list(counts or [1] * len(sizes))
    least = max(_least_discs(sizes, capacity), -(-sum(weights) // most_pieces))
    candidates = [_first_fit(sizes, capacity, most_pieces, weights), _filled(sizes, capacity, most_pieces, weights)]
    best = min(candidates, key=len)
    if len(best) > least:
        found, complete = _search(sizes, capacity, most_pieces, weights, len(best))
        best = found or best
        if complete:
            least = len(best)
    return Packing(discs=tuple(tuple(sorted(disc)) for disc in best), proved=len(best) == least)


def _least_discs(sizes: Sequence[int], capacity: int) -> int:
    """No packing takes fewer: the sum, and pieces of which no two fit together (Martello and Toth's second bound)."""
    best = -(-sum(sizes) // capacity)
    for small in {size for size in sizes if size <= capacity // 2} | {0}:
        alone = [size for size in sizes if size > capacity - small]
        large = [size for size in sizes if capacity // 2 < size <= capacity - small]
        rest = sum(size for size in sizes if small <= size <= capacity // 2)
        room = len(large) * capacity - sum(large)
        best = max(best, len(alone) + len(large) + max(0, -(-(rest - room) // capacity)))
    return best


def _first_fit(sizes: Sequence[int], capacity: int, most: int, weights: Sequence[int]) -> list[list[int]]:
    """The longest first, each on the first disc that has room."""
    discs: list[list[int]] = []
    rooms: list[tuple[int, int]] = []
    for position in sorted(range(len(sizes)), key=lambda position: -sizes[position]):
        for number, (room, pieces) in enumerate(rooms):
            if sizes[position] <= room and weights[position] <= pieces:
                discs[number].append(position)
                rooms[number] = room - sizes[position], pieces - weights[position]
                break
        else:
            discs.append([position])
            rooms.append((capacity - sizes[position], most - weights[position]))
    return discs


def _filled(sizes: Sequence[int], capacity: int, most: int, weights: Sequence[int]) -> list[list[int]]:
    """Each disc takes the longest piece left and then the subset that fills it best."""
    left = sorted(range(len(sizes)), key=lambda position: -sizes[position])
    discs: list[list[int]] = []
    while left:
        first, rest = left[0], left[1:]
        chosen = [rest[n] for n in fullest_subset([sizes[position] for position in rest], capacity - sizes[first])]
        disc, pieces = [first], weights[first]
        for position in chosen:
            if pieces + weights[position] <= most:
                disc.append(position)
                pieces += weights[position]
        discs.append(disc)
        taken = set(disc)
        left = [position for position in left if position not in taken]
    return discs


def _search(
    sizes: Sequence[int], capacity: int, most: int, weights: Sequence[int], known: int
) -> tuple[list[list[int]] | None, bool]:
    """(a packing on fewer discs than known, if found; whether the search went through everything)."""
    order = sorted(range(len(sizes)), key=lambda position: -sizes[position])
    best: list[list[int]] | None = None
    limit, steps = known - 1, 0
    discs: list[list[int]] = []
    rooms: list[int] = []
    pieces: list[int] = []

    def place_next(depth: int) -> bool:
        """True when the search may end: nothing better can be, or the steps are used up."""
        nonlocal best, limit, steps
        steps += 1
        if steps > _SEARCH_STEPS:
            return True
        if depth == len(order):
            best, limit = [list(disc) for disc in discs], len(discs) - 1
            return False
        rest = sum(sizes[position] for position in order[depth:])
        if len(discs) + max(0, -(-(rest - sum(rooms)) // capacity)) > limit:
            return False
        piece = order[depth]
        tried: set[tuple[int, int]] = set()
        for number in range(len(discs)):
            if (
                sizes[piece] > rooms[number]
                or weights[piece] > pieces[number]
                or (rooms[number], pieces[number]) in tried
            ):
                continue
            tried.add((rooms[number], pieces[number]))
            _put(number, piece, 1)
            if place_next(depth + 1):
                return True
            _put(number, piece, -1)
        if len(discs) < limit:
            discs.append([])
            rooms.append(capacity)
            pieces.append(most)
            _put(len(discs) - 1, piece, 1)
            if place_next(depth + 1):
                return True
            discs.pop()
            rooms.pop()
            pieces.pop()
        return False

    def _put(number: int, piece: int, sign: int) -> None:
        rooms[number] -= sign * sizes[piece]
        pieces[number] -= sign * weights[piece]
        if sign > 0:
            discs[number].append(piece)
        else:
            discs[number].pop()

    # A case deep enough to strain the stack is far beyond proof in the steps allowed.
    if len(order) > 400:
        return None, False
    place_next(0)
    return best, steps <= _SEARCH_STEPS


Total = Callable[[int, int], int]
"""What the pieces from one up to another, exclusive, take together in order."""


def full_runs(count: int, total: Total, capacity: int, *, most_pieces: int) -> list[list[int]]:
    """So many pieces in order, each disc as full as it gets: no division in order takes fewer discs."""
    discs, start = [], 0
    for end in range(1, count + 1):
        last = end == count
        if last or end + 1 - start > most_pieces or total(start, end + 1) > capacity:
            discs.append(list(range(start, end)))
            start = end
    return discs


def even_runs(count: int, total: Total, capacity: int, *, most_pieces: int) -> list[list[int]]:
    """In order, on as few discs as full_runs: the fullest as empty as can be, and then the emptiest as full."""
    discs = len(full_runs(count, total, capacity, most_pieces=most_pieces))
    low, high = max((total(at, at + 1) for at in range(count)), default=0), capacity
    while low < high:
        middle = (low + high) // 2
        if len(full_runs(count, total, middle, most_pieces=most_pieces)) <= discs:
            high = middle
        else:
            low = middle + 1
    fullest = low
    best = full_runs(count, total, fullest, most_pieces=most_pieces)
    if len(best) != discs:
        # A piece that no disc holds stands alone.
        return best
    low, high = 0, fullest
    while low < high:
        middle = (low + high + 1) // 2
        found = _between(count, total, middle, fullest, discs, most_pieces)
        if found:
            low, best = middle, found
        else:
            high = middle - 1
    return best


def _between(count: int, total: Total, least: int, most: int, discs: int, most_pieces: int) -> list[list[int]] | None:
    """A division into so many discs, none emptier than least nor fuller than most; None where there is none."""
    layers: list[dict[int, int]] = [{0: 0}]
    for number in range(discs):
        reached: dict[int, int] = {}
        for start in layers[-1]:
            for end in range(start + 1, min(count, start + most_pieces) + 1):
                taken = total(start, end)
                if taken > most:
                    break
                if taken >= least and (end == count) == (number == discs - 1):
                    reached.setdefault(end, start)
        layers.append(reached)
    if count not in layers[-1]:
        return None
    found, end = [], count
    for layer in reversed(layers[1:]):
        found.append(list(range(layer[end], end)))
        end = layer[end]
    return found[::-1]
