"""How many tracks stand to the targets: judged once for each group of equal facts, not track by track."""

import hashlib
from bisect import bisect_left
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.inspection import Facts
from rumbrel.core.targets import FitKind, Target, fit_to
from rumbrel.core.targets.fit import BITRATE_SLACK

__all__ = ["FIT_KINDS", "Kinds", "ReasonGroup", "Standing", "reason_groups", "standings"]

FIT_KINDS = tuple(FitKind)


@dataclass(frozen=True, slots=True, kw_only=True)
class Kinds:
    """Tracks, in some order, in groups of equal facts: facts are one track's of each group; order is the group of
    each track, ids and seconds its id and length."""

    facts: tuple[Facts, ...]
    order: NDArray[np.intp]
    ids: NDArray[np.int64]
    seconds: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """One target against all tracks: counts and seconds by kind of fit, and marks, each the commonest of
    neighbours."""

    target: Target
    counts: tuple[int, ...]
    seconds: tuple[float, ...]
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


def standings(kinds: Kinds, targets: Iterable[Target], *, marks: int) -> list[Standing]:
    """Every target against tracks. Where there are more tracks than marks, a mark stands for several neighbours."""
    facts, order = kinds.facts, kinds.order
    sizes = np.bincount(order, minlength=len(facts))
    seconds = np.bincount(order, weights=kinds.seconds, minlength=len(facts))
    edges = np.linspace(0, len(order), min(marks, len(order)) + 1).round().astype(int)
    found = []
    for target in targets:
        codes = np.array([FIT_KINDS.index(fit_to(each, target).kind) for each in facts], dtype=np.intp)
        counts, lengths = (np.bincount(codes, weights=each, minlength=len(FIT_KINDS)) for each in (sizes, seconds))
        found.append(
            Standing(
                target=target, counts=tuple(int(n) for n in counts), seconds=tuple(float(n) for n in lengths),
                marks=_marks(codes[order], edges),
            )
        )  # fmt: skip
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class ReasonGroup:
    """Tracks that stand to a target in one way for one reason. key names it, whatever tracks are checked."""

    kind: FitKind
    reason: str
    tracks: int
    seconds: float
    ids: NDArray[np.int64]

    @property
    def key(self) -> str:
        return hashlib.sha256(f"{self.kind} {self.reason}".encode()).hexdigest()[:12]


def reason_groups(kinds: Kinds, target: Target) -> list[ReasonGroup]:
    """Tracks against one target by fit and reason, in the order of the fits, the most tracks first."""
    by_reason: dict[tuple[FitKind, str], list[int]] = {}
    for number, facts in enumerate(kinds.facts):
        fit = fit_to(facts, target)
        by_reason.setdefault((fit.kind, fit.reason), []).append(number)
    groups = []
    for (kind, reason), numbers in by_reason.items():
        among = np.isin(kinds.order, numbers)
        groups.append(
            ReasonGroup(
                kind=kind, reason=reason, tracks=int(among.sum()), seconds=float(kinds.seconds[among].sum()),
                ids=kinds.ids[among],
            )
        )  # fmt: skip
    return sorted(groups, key=lambda group: (FIT_KINDS.index(group.kind), -group.tracks))


def _marks(codes: NDArray[np.intp], edges: NDArray[np.int_]) -> tuple[FitKind, ...]:
    """The commonest kind between each pair of edges."""
    if len(edges) < 2:
        return ()
    sums = np.zeros((len(FIT_KINDS), len(codes) + 1), dtype=np.int64)
    for code in range(len(FIT_KINDS)):
        sums[code, 1:] = np.cumsum(codes == code)
    commonest = (sums[:, edges[1:]] - sums[:, edges[:-1]]).argmax(axis=0)
    return tuple(FIT_KINDS[code] for code in commonest)
