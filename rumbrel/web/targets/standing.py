"""How many tracks stand to the targets: judged once for each group of equal facts, not track by track."""

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.inspection import Facts
from rumbrel.core.targets import FitKind, Target, fit_to
from rumbrel.core.targets.fit import BITRATE_SLACK

__all__ = ["FIT_KINDS", "Standing", "standings"]

FIT_KINDS = tuple(FitKind)


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """One target against all tracks: counts by kind of fit, and marks, each the commonest of neighbours."""

    target: Target
    counts: tuple[int, ...]
    marks: tuple[FitKind, ...]

    @property
    def total(self) -> int:
        return sum(self.counts)


@cache
def bitrate_limits(targets: tuple[Target, ...]) -> tuple[float, ...]:
    """Every bitrate in bits/s at which some target's judgement changes."""
    limits: set[float] = set()
    for row in (row for target in targets for row in target.accepts):
        if row.max_bitrate_kbps is not None:
            limits |= {row.max_bitrate_kbps * 1000 * BITRATE_SLACK, row.max_bitrate_kbps * 1000.0}
        for kbps in row.bitrates_kbps:
            limits |= {kbps * 1000 - 500.0, kbps * 1000 + 500.0}
    return tuple(sorted(limits))


def bitrate_class(bitrate_bps: int, limits: tuple[float, ...]) -> int:
    """Equal for bitrates that no limit lies between; a bitrate on a limit is a class of its own."""
    at = bisect_left(limits, bitrate_bps)
    return 2 * at + (at < len(limits) and limits[at] == bitrate_bps)


def standings(
    facts: Sequence[Facts],
    order: NDArray[np.intp],
    targets: Iterable[Target],
    *,
    marks: int,
) -> list[Standing]:
    """Every target against tracks whose kinds are order[n]; facts are one track's of each kind.

    Where there are more tracks than marks, a mark stands for several neighbours.
    """
    sizes = np.bincount(order, minlength=len(facts))
    edges = np.linspace(0, len(order), min(marks, len(order)) + 1).round().astype(int)
    found = []
    for target in targets:
        codes = np.array([FIT_KINDS.index(fit_to(each, target).kind) for each in facts], dtype=np.intp)
        counts = np.bincount(codes, weights=sizes, minlength=len(FIT_KINDS)).astype(int)
        found.append(Standing(target=target, counts=tuple(int(n) for n in counts), marks=_marks(codes[order], edges)))
    return found


def _marks(codes: NDArray[np.intp], edges: NDArray[np.int_]) -> tuple[FitKind, ...]:
    """The commonest kind between each pair of edges."""
    if len(edges) < 2:
        return ()
    sums = np.zeros((len(FIT_KINDS), len(codes) + 1), dtype=np.int64)
    for code in range(len(FIT_KINDS)):
        sums[code, 1:] = np.cumsum(codes == code)
    commonest = (sums[:, edges[1:]] - sums[:, edges[:-1]]).argmax(axis=0)
    return tuple(FIT_KINDS[code] for code in commonest)
