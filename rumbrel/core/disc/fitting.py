"""What to do when a disc does not fit, each offer with its exact result; and how to fill one that does."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from .layout import DiscLayout, DiscTrack
from .media import Medium
from .packing import even_runs, full_runs, pack
from .red_book import MAX_TRACKS, SECTORS_PER_SECOND, format_msf, spoken_time
from .subsets import fullest_subset, smallest_cover, smallest_cover_of

__all__ = ["Offer", "Split", "fill_from_pool", "offers", "split"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """A way to make a disc fit. removed are track numbers, gap_sectors the new gap where it changes,
    total_sectors what the disc then takes. proved says that nothing better of its kind exists."""

    kind: str
    text: str
    total_sectors: int
    removed: tuple[int, ...] = ()
    gap_sectors: int | None = None
    proved: bool = True

    def as_record(self) -> dict[str, Any]:
        return {
            "kind": self.kind,
            "text": self.text,
            "total_sectors": self.total_sectors,
            "total_msf": format_msf(self.total_sectors),
            "removed": list(self.removed),
            "gap_sectors": self.gap_sectors,
            "proved": self.proved,
        }


@dataclass(frozen=True, slots=True, kw_only=True)
class Split:
    """Tracks on several discs: positions in the list, disc by disc, and the sectors each disc takes."""

    discs: tuple[tuple[int, ...], ...]
    total_sectors: tuple[int, ...]
    proved: bool

    @property
    def text(self) -> str:
        proof = "no fewer will do" if self.proved else "a good division, not proved to be the best"
        return f"{len(self.discs)} discs; {proof}"


def _cost(track: DiscTrack, first: bool) -> int:
    """What leaving a track out saves: itself and its gap. The first has none that counts."""
    return track.sectors + (0 if first else track.gap_sectors)


def offers(layout: DiscLayout, *, trimmed_sectors: Sequence[int] | None = None) -> tuple[Offer, ...]:
    """Every offer that makes the layout fit, most harmless first; none when it fits already.

    trimmed_sectors is what each track would take without the silence at its ends, where that was measured.
    """
    over = -layout.free_sectors
    if over <= 0 or not layout.tracks:
        return ()
    found = [_smaller_gaps(layout, over), _trimmed(layout, over, trimmed_sectors)]
    found += [_fewest(layout, over), _shortest(layout, over)]
    return tuple(offer for offer in found if offer is not None)


def _smaller_gaps(layout: DiscLayout, over: int) -> Offer | None:
    gaps = [track.gap_sectors for track in layout.tracks[1:] if not track.runs_on]
    if sum(gaps) < over:
        return None
    # The largest gap that no gap may pass; smaller ones stay as they are.
    low, high = 0, max(gaps)
    while low < high:
        middle = (low + high + 1) // 2
        if sum(gap - min(gap, middle) for gap in gaps) >= over:
            low = middle
        else:
            high = middle - 1
    saved = sum(gap - min(gap, low) for gap in gaps)
    text = f"gaps of at most {low / SECTORS_PER_SECOND:.2f} s: saves {spoken_time(saved)}"
    return Offer(kind="gaps", text=text, total_sectors=layout.total_sectors - saved, gap_sectors=low)


def _trimmed(layout: DiscLayout, over: int, trimmed_sectors: Sequence[int] | None) -> Offer | None:
    if trimmed_sectors is None:
        return None
    saved = sum(t.sectors - trimmed for t, trimmed in zip(layout.tracks, trimmed_sectors, strict=True) if not t.runs_on)
    if saved < over:
        return None
    text = f"leave out the silence at the ends of tracks: saves {spoken_time(saved)}"
    return Offer(kind="trim", text=text, total_sectors=layout.total_sectors - saved)


def _listed(words: Sequence[str], *, more: bool) -> str:
    if more:
        return f"{', '.join(words)} and more"
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _after(layout: DiscLayout, positions: Sequence[int]) -> int:
    """What the disc takes without some tracks: the first one left needs no gap."""
    gone = set(positions)
    kept = [track for position, track in enumerate(layout.tracks) if position not in gone]
    lead = layout.tracks[0].start_sector
    return lead + sum(_cost(track, position == 0) for position, track in enumerate(kept)) if kept else 0


def _removal(layout: DiscLayout, kind: str, positions: Sequence[int], proved: bool) -> Offer | None:
    total = _after(layout, positions)
    if total > layout.medium.capacity_sectors:
        return None
    numbers = tuple(layout.tracks[position].number for position in positions)
    saved = layout.total_sectors - total
    word = "track" if len(numbers) == 1 else "tracks"
    shown = _listed([str(number) for number in numbers[:8]], more=len(numbers) > 8)
    text = f"leave out {word} {shown}: saves {spoken_time(saved)}"
    return Offer(kind=kind, text=text, total_sectors=total, removed=numbers, proved=proved)


def _even_gaps(layout: DiscLayout) -> bool:
    """Only with one gap throughout is a track's cost its own, whichever track comes first then."""
    return len({track.gap_sectors for track in layout.tracks[1:]}) <= 1


def _costs(layout: DiscLayout) -> list[int]:
    gap = layout.tracks[1].gap_sectors if len(layout.tracks) > 1 else 0
    return [track.sectors + (track.gap_sectors if position else gap) for position, track in enumerate(layout.tracks)]


def _fewest(layout: DiscLayout, over: int) -> Offer | None:
    positions, proved = smallest_cover_of(_costs(layout), over)
    return _removal(layout, "fewest", positions, proved and _even_gaps(layout))


def _shortest(layout: DiscLayout, over: int) -> Offer | None:
    positions = smallest_cover(_costs(layout), over)
    return _removal(layout, "shortest", positions, _even_gaps(layout))


def split(layout: DiscLayout, medium: Medium, *, how: str, keep_albums: bool = False) -> Split:
    """Tracks over several discs: how is "even" or "fill", in order, or "free" for the fewest discs.

    Tracks longer than the medium get a disc of their own, which then does not fit.
    """
    sizes = [track.sectors for track in layout.tracks]
    gaps = [0 if track.runs_on else track.gap_sectors for track in layout.tracks]
    if how == "free":
        return _split_freely(layout, medium, keep_albums)
    divide = even_runs if how == "even" else full_runs
    discs = divide(sizes, gaps, medium.capacity_sectors, most_pieces=MAX_TRACKS)
    return _as_split(discs, sizes, gaps, proved=True)


def _as_split(discs: Sequence[Sequence[int]], sizes: Sequence[int], gaps: Sequence[int], *, proved: bool) -> Split:
    totals = [sum(sizes[p] + (gaps[p] if n else 0) for n, p in enumerate(disc)) for disc in discs]
    return Split(discs=tuple(tuple(disc) for disc in discs), total_sectors=tuple(totals), proved=proved)


def _split_freely(layout: DiscLayout, medium: Medium, keep_albums: bool) -> Split:
    """Pieces are tracks that run on with each other, or whole albums; a disc's first piece needs no gap."""
    tracks = layout.tracks
    groups: dict[object, list[int]] = {}
    for position, track in enumerate(tracks):
        if keep_albums and track.programme.album:
            groups.setdefault(track.programme.album, []).append(position)
        elif track.runs_on and groups:
            next(reversed(groups.values())).append(position)
        else:
            groups[position] = [position]
    pieces = _cut_to_size(list(groups.values()), tracks, medium)
    usual = max((track.gap_sectors for track in tracks[1:]), default=0)
    costs = [
        sum(tracks[p].sectors + (0 if tracks[p].runs_on else tracks[p].gap_sectors or usual) for p in piece)
        for piece in pieces
    ]
    room = medium.capacity_sectors + usual
    packed = pack([min(cost, room) for cost in costs], room, most_pieces=MAX_TRACKS, counts=[len(p) for p in pieces])
    discs = [sorted(position for piece in disc for position in pieces[piece]) for disc in packed.discs]
    discs.sort(key=lambda disc: disc[0])
    sizes = [track.sectors for track in tracks]
    gaps = [0 if track.runs_on else track.gap_sectors or usual for track in tracks]
    return _as_split(discs, sizes, gaps, proved=packed.proved and len(set(gaps)) <= 2)


def _cut_to_size(groups: list[list[int]], tracks: Sequence[DiscTrack], medium: Medium) -> list[list[int]]:
    """Albums that no disc holds are divided in order."""
    pieces = []
    for group in groups:
        sizes = [tracks[position].sectors for position in group]
        gaps = [tracks[position].gap_sectors for position in group]
        runs = full_runs(sizes, gaps, medium.capacity_sectors, most_pieces=MAX_TRACKS)
        pieces += [[group[n] for n in run] for run in runs]
    return pieces


def fill_from_pool(layout: DiscLayout, pool_sectors: Sequence[int], *, gap_sectors: int) -> tuple[list[int], int]:
    """(positions in the pool that fill the room left best, sectors still free). Optimal for the time."""
    room = layout.free_sectors
    slots = MAX_TRACKS - len(layout.tracks)
    if room <= 0 or slots <= 0:
        return [], max(0, room)
    lead = 0 if layout.tracks else gap_sectors
    costs = [sectors + gap_sectors for sectors in pool_sectors]
    chosen = fullest_subset(costs, room + lead)
    # More tracks than the disc takes: the longest of them stay.
    chosen = sorted(sorted(chosen, key=lambda position: -costs[position])[:slots])
    return chosen, room + (lead if chosen else 0) - sum(costs[position] for position in chosen)
