"""A disc's layout from its playlist and the kept facts, built as the command builds it."""

import hashlib
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.disc.checklist import Finding
from rumbrel.core.disc.layout import DiscLayout, Programme
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import Facts
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.make_disc import DiscPlan, DiscWish, plan_disc, programme_of
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.playlists.queries import listed_tracks

from ..models import Disc

__all__ = ["PlannedDisc", "plan_layout"]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedDisc:
    """The plan, findings with a line for each source that cannot be used, and the mark of what would be written."""

    plan: DiscPlan
    findings: tuple[Finding, ...]
    mark: str

    @property
    def failed(self) -> Finding | None:
        """Why the disc may not be written, None where it may."""
        return next((finding for finding in self.findings if finding.verdict is Verdict.FAILED), None)

    @property
    def writable(self) -> bool:
        return self.plan.writable and self.failed is None


def plan_layout(*, disc: Disc) -> PlannedDisc:
    """Lay out the playlist as it is now. A track that cannot be used whole has a
    line with the reason, and keeps the disc from being written."""
    tracks = listed_tracks(disc.playlist)
    facts = facts_by_id([track.pk for track in tracks])
    programmes: list[Programme] = []
    unusable: list[Finding] = []
    for track in tracks:
        try:
            programmes.append(_programme(facts.get(track.pk), bool(track.missing_since), track.title))
        except DiscError as error:
            text = f"{track.title} cannot be used: {str(error).rstrip('.')}. Or take it off the list"
            unusable.append(Finding(code="unusable", verdict=Verdict.FAILED, text=text))
    wish = DiscWish(
        medium=medium_for(disc.medium_key),
        gap_sectors=disc.gap_seconds * SECTORS_PER_SECOND,
        title=disc.playlist.name,
    )
    plan = plan_disc(programmes, wish)
    return PlannedDisc(plan=plan, findings=(*unusable, *plan.findings), mark=_mark(plan.layout))


def _programme(facts: Facts | None, missing: bool, title: str) -> Programme:
    if facts is None or missing:
        raise DiscError("its file is not there any more. Connect its disk, then scan its folder again.")
    if not facts.usable or not facts.ok:
        raise DiscError(facts.faults[0].text if facts.faults else "there is no sound in it.")
    return replace(programme_of(facts), title=title or Path(facts.path).stem)


def _mark(layout: DiscLayout) -> str:
    """Equal for layouts that would be written alike."""
    return hashlib.sha256(repr((layout.medium.key, layout.tracks)).encode("utf-8", "surrogateescape")).hexdigest()
