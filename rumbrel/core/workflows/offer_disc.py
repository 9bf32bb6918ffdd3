"""What would make a disc fit: each offer a changed design, laid out to its end."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from rumbrel.core.disc.design import DiscDesign, divided, gaps_of_at_most, left_out
from rumbrel.core.disc.fitting import Split, removals, split
from rumbrel.core.disc.media import smallest_medium
from rumbrel.core.disc.red_book import MAX_TRACKS, SECTORS_PER_SECOND, format_msf, spoken_time

from .design_disc import Bases, DesignPlan
from .disc_sounds import Sound

__all__ = ["DesignOffer", "design_offers"]


@dataclass(frozen=True, slots=True, kw_only=True)
class DesignOffer:
    """A change that was worked out to its end: text says what it is and what it saves, total_sectors what each disc
    then takes, fits whether that is enough. key tells it from the other offers for the same disc."""

    key: str
    text: str
    designs: tuple[DiscDesign, ...]
    total_sectors: tuple[int, ...]
    fits: bool
    proved: bool = True

    @property
    def several(self) -> bool:
        return len(self.designs) > 1

    def as_record(self) -> dict[str, Any]:
        return {
            "key": self.key,
            "text": self.text,
            "fits": self.fits,
            "proved": self.proved,
            "total_sectors": list(self.total_sectors),
            "total_msf": [format_msf(total) for total in self.total_sectors],
            "left_out": [n for n, track in enumerate(self.designs[0].tracks, 1) if track.left_out],
        }


def design_offers(planned: DesignPlan, sounds: Mapping[int, Sound]) -> tuple[DesignOffer, ...]:
    """What would make it fit, the most harmless first; what would not be enough stands there too, so that nobody
    tries it in vain. Every result was laid out. None for a disc that fits, unless it has more tracks than a disc takes:
    then it can be divided."""
    layout = planned.layout
    bases = Bases(sounds)
    if layout.free_sectors >= 0 or not layout.tracks:
        return tuple(_by_dividing(planned, bases)) if len(layout.tracks) > MAX_TRACKS else ()
    tried = partial(_tried, planned, bases)
    found = [*_by_gaps_and_ends(planned, tried), *_by_leaving_out(planned, tried), *_by_dividing(planned, bases)]
    bigger = smallest_medium(layout.total_sectors)
    if bigger is not None:
        one = replace(planned.design, medium_key=bigger.key)
        doubt = ", which some drives and players refuse" if bigger.beyond_standard else ""
        found.append(tried(f"medium-{bigger.key}", f"{bigger.a_label}{doubt}", one))
    return tuple(found)


def _tried(
    planned: DesignPlan, bases: Bases, key: str, text: str, design: DiscDesign, proved: bool = True
) -> DesignOffer:
    layout = bases.lay_out(design)
    saved = planned.layout.total_sectors - layout.total_sectors
    said = f"{text}: saves {spoken_time(saved)}" if saved > 0 else text
    return DesignOffer(
        key=key, text=said, designs=(design,), total_sectors=(layout.total_sectors,), fits=layout.fits, proved=proved
    )


def _seconds(sectors: int) -> str:
    return f"{sectors / SECTORS_PER_SECOND:.2f}".rstrip("0").rstrip(".")


def _by_gaps_and_ends(planned: DesignPlan, tried: "partial[DesignOffer]") -> list[DesignOffer]:
    design, layout = planned.design, planned.layout
    over = -layout.free_sectors
    saves = planned.trim_saves if planned.trim_saves and not design.trims else 0
    gaps = [track.gap_sectors for track in layout.tracks[1:] if not track.runs_on]
    found = []
    if saves:
        found.append(tried("trim", "leave out the silence at the ends", replace(design, trims=True)))
    if sum(gaps):
        most = _largest_gap(gaps, over)
        found.append(tried(f"gaps-{most}", f"gaps of at most {_seconds(most)} s", gaps_of_at_most(design, most)))
    if saves and not any(offer.fits for offer in found) and sum(gaps) + saves >= over:
        most = _largest_gap(gaps, over - saves)
        both = replace(gaps_of_at_most(design, most), trims=True)
        found.append(
            tried(
                f"trim-gaps-{most}", f"leave out the silence at the ends, and gaps of at most {_seconds(most)} s", both
            )
        )
    return found


def _largest_gap(gaps: Sequence[int], over: int) -> int:
    """The largest length that no gap may pass so that over is saved; 0 where none is small enough."""
    low, high = 0, max(gaps)
    while low < high:
        middle = (low + high + 1) // 2
        if sum(gap - min(gap, middle) for gap in gaps) >= over:
            low = middle
        else:
            high = middle - 1
    return low


def _by_leaving_out(planned: DesignPlan, tried: "partial[DesignOffer]") -> list[DesignOffer]:
    keys = {row.track.number: row.design.key for row in planned.rows if row.track is not None}
    found: list[DesignOffer] = []
    for offer in removals(planned.layout):
        text = offer.text.rpartition(": saves")[0]
        if any(each.text.startswith(text) for each in found):
            continue
        out = left_out(planned.design, {keys[number] for number in offer.removed}, True)
        one = tried(offer.kind, text, out, offer.proved)
        if one.fits:
            found.append(one)
    return found


_DIVISIONS = (("even", False, "in order, evenly"), ("fill", False, "in order, each filled"),
              ("free", False, "in any order"), ("free", True, "in any order, albums kept"))  # fmt: skip


_LEAST_DISC_SECTORS = 60 * SECTORS_PER_SECOND


def _minutes(sectors: int) -> str:
    minutes = sectors / SECTORS_PER_SECOND / 60
    return f"{minutes:.0f}" if minutes >= 1 else f"{minutes:.1f}"


def _by_dividing(planned: DesignPlan, bases: Bases) -> list[DesignOffer]:
    layout = planned.layout
    keys = [row.design.key for row in planned.rows if row.track is not None]
    albums = {track.programme.album for track in layout.tracks if track.programme.album}
    found: list[DesignOffer] = []
    for how, keeps, text in _DIVISIONS:
        if keeps and len(albums) < 2:
            continue
        division: Split = split(layout, layout.medium, how=how, keep_albums=keeps)
        if len(division.discs) < 2:
            continue
        designs = tuple(divided(planned.design, [[keys[at] for at in disc] for disc in division.discs]))
        if any(designs == each.designs for each in found):
            continue
        layouts = [bases.lay_out(one) for one in designs]
        totals = tuple(each.total_sectors for each in layouts)
        if how == "fill" and min(totals) < _LEAST_DISC_SECTORS and any(offer.fits for offer in found):
            # A second disc of seconds is no way to listen; the even division stands there already.
            continue
        minutes = " + ".join(_minutes(total) for total in totals[:8])
        more = " and more" if len(totals) > 8 else ""
        fewest = "" if how != "free" or not division.proved else ", no fewer will do"
        found.append(
            DesignOffer(
                key=f"{how}-albums" if keeps else how,
                text=f"{len(designs)} discs {text}: {minutes}{more} min{fewest}", designs=designs, total_sectors=totals,
                fits=all(each.fits for each in layouts), proved=division.proved,
            )
        )  # fmt: skip
    return found
