"""How the pulled tracks stand to the targets."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from rumbrel.core.targets import Fit, FitKind, Target, all_targets, fit_to
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.services import facts_of

__all__ = ["Standing", "standings"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """One target against every pulled track, in their order."""

    target: Target
    fits: tuple[tuple[Track, Fit], ...]

    @property
    def counts(self) -> list[int]:
        """How many tracks there are of each kind of fit, in the order of FitKind."""
        found = Counter(fit.kind for _, fit in self.fits)
        return [found[kind] for kind in FitKind]


def standings(tracks: Sequence[Track], slug: str = "") -> list[Standing]:
    """Every target, or the one of a slug, against the tracks."""
    facts = [(track, facts_of(track)) for track in tracks]
    chosen = [target for target in all_targets() if slug in ("", target.slug)]
    return [
        Standing(target=target, fits=tuple((track, fit_to(known, target)) for track, known in facts))
        for target in chosen
    ]
