"""What templates show of a track beside its columns."""

from collections.abc import Sequence
from dataclasses import dataclass

from rumbrel.core.inspection import Facts
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import Fit, FitKind, Target
from rumbrel.web.ui.words import FIT_WORDS

__all__ = ["FitGroup", "fit_groups", "tag_rows"]

_LABELS = {row.name: row.label for row in FIELDS}


@dataclass(frozen=True, slots=True, kw_only=True)
class FitGroup:
    """The targets to which a track stands in one way, each with its reason. shared is what all of them say
    alike, said once; "" where they differ."""

    kind: FitKind
    word: str
    shared: str
    targets: tuple[tuple[Target, str], ...]


def fit_groups(fits: Sequence[tuple[Target, Fit]]) -> tuple[FitGroup, ...]:
    """Best first; a kind that no target is of is left out."""
    groups = []
    for kind in FitKind:
        targets = tuple((target, fit.reason) for target, fit in fits if fit.kind is kind)
        if targets:
            reasons = {reason for _, reason in targets}
            shared = reasons.pop() if len(reasons) == 1 and len(targets) > 1 else ""
            groups.append(FitGroup(kind=kind, word=FIT_WORDS[kind], shared=shared, targets=targets))
    return tuple(groups)


def tag_rows(facts: Facts) -> tuple[tuple[str, str], ...]:
    """(label, value) of every tag, in the order of our table; unknown ones last, by their own names."""
    texts = facts.tags.as_text()
    known = [(row.label, texts[row.name]) for row in FIELDS if row.name in texts]
    return (*known, *((name, text) for name, text in texts.items() if name not in _LABELS))
