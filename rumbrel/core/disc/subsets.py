"""Subsets of whole numbers by their sums, exactly: a sum is a bit, so one shift adds an item to all sums at once."""

from collections.abc import Sequence

__all__ = ["fullest_of_at_most", "fullest_subset", "smallest_cover", "smallest_cover_of"]


def _reachable(sizes: Sequence[int], limit: int) -> list[int]:
    """For each prefix of the items, a number whose bits are the sums up to limit that it reaches."""
    mask = (1 << (limit + 1)) - 1
    sums, history = 1, [1]
    for size in sizes:
        if size <= limit:
            sums |= (sums << size) & mask
        history.append(sums)
    return history


def _reachable_by_count(sizes: Sequence[int], limit: int, count: int) -> list[tuple[int, ...]]:
    """For each prefix of the items, the sums up to limit that none, one, and up to count of them reach, as bits."""
    mask = (1 << (limit + 1)) - 1
    layers = [1] + [0] * count
    history = [tuple(layers)]
    for size in sizes:
        for number in range(count, 0, -1):
            layers[number] |= (layers[number - 1] << size) & mask
        history.append(tuple(layers))
    return history


def _way_back(sizes: Sequence[int], history: Sequence[tuple[int, ...]], count: int, total: int) -> list[int]:
    """Places of exactly count items of this sum, which the history says there are."""
    found = []
    for position in range(len(sizes) - 1, -1, -1):
        if not history[position][count] >> total & 1:
            found.append(position)
            total -= sizes[position]
            count -= 1
    return found[::-1]


def fullest_subset(sizes: Sequence[int], limit: int) -> list[int]:
    """Places of the items whose sum is the largest that does not pass limit."""
    if limit <= 0:
        return []
    history = _reachable(sizes, limit)
    total = history[-1].bit_length() - 1
    chosen = []
    for position in range(len(sizes) - 1, -1, -1):
        if not history[position] >> total & 1:
            chosen.append(position)
            total -= sizes[position]
    return chosen[::-1]


_MOST_BITS = 1_600_000_000
"""Of all sums by count, kept to find the way back: more than this is not searched."""


def fullest_of_at_most(sizes: Sequence[int], limit: int, count: int) -> tuple[list[int], bool]:
    """(places of at most count items whose sum is the largest that does not pass limit; whether that is proved)."""
    chosen = fullest_subset(sizes, limit)
    if len(chosen) <= count:
        return chosen, True
    # So many of the smaller ones fill it, so fewer and larger ones must do.
    if len(sizes) * count * limit > _MOST_BITS:
        return sorted(sorted(chosen, key=lambda position: -sizes[position])[:count]), False
    history = _reachable_by_count(sizes, limit, count)
    layers = history[-1]
    number = max(range(count + 1), key=lambda n: (layers[n].bit_length(), -n))
    return _way_back(sizes, history, number, layers[number].bit_length() - 1), True


def smallest_cover(sizes: Sequence[int], least: int) -> list[int]:
    """Places of the items whose sum is the smallest that reaches least; all of them where none does."""
    kept = set(fullest_subset(sizes, sum(sizes) - least))
    return [position for position in range(len(sizes)) if position not in kept]


_MOST_COUNTED = 12
"""Up to so many items to leave out, the best choice of that many is searched exactly."""


def smallest_cover_of(sizes: Sequence[int], least: int) -> tuple[list[int], bool]:
    """(fewest items whose sum reaches least, and among those the smallest sum; whether that sum is proved).

    Taking the largest first needs the fewest; which ones of that number come closest is searched by
    the sums of every count.
    """
    order = sorted(range(len(sizes)), key=lambda position: -sizes[position])
    count, total = 0, 0
    while total < least and count < len(order):
        total += sizes[order[count]]
        count += 1
    if count > _MOST_COUNTED or total < least:
        return sorted(order[:count]), False
    return _counted_cover(sizes, least, count), True


def _counted_cover(sizes: Sequence[int], least: int, count: int) -> list[int]:
    """Exactly count items with the smallest sum of at least least."""
    limit = sum(sorted(sizes)[-count:])
    history = _reachable_by_count(sizes, limit, count)
    layers = history[-1]
    above = layers[count] >> least
    return _way_back(sizes, history, count, least + (above & -above).bit_length() - 1)
