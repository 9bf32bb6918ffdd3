"""What to do when a disc does not fit, each offer with its exact result; and how to fill one that does."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from .layout import DiscLayout, DiscTrack, laid_out_again
from .media import Medium
from .packing import Total, even_runs, full_runs, pack
from .red_book import MAX_TRACKS, SAMPLE_RATE, sectors_for_samples, spoken_time
from .subsets import fullest_of_at_most, smallest_cover, smallest_cover_of

__all__ = ["Offer", "PoolFill", "Split", "fill_from_pool", "removals", "split"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """Tracks to leave out so that a disc fits, by their numbers, and what the disc then takes. proved says that nothing
    better of its kind exists."""

    kind: str
    text: str
    total_sectors: int
    removed: tuple[int, ...] = ()
    proved: bool = True


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


def removals(layout: DiscLayout) -> tuple[Offer, ...]:
    """What could be left out so that the layout fits: fewest tracks, and least sound; none when it fits already."""
    over = -layout.free_sectors
    if over <= 0 or not layout.tracks:
        return ()
    return tuple(offer for offer in (_fewest(layout, over), _shortest(layout, over)) if offer is not None)


def _listed(words: Sequence[str], *, more: bool) -> str:
    if more:
        return f"{', '.join(words)} and more"
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _removal(layout: DiscLayout, kind: str, positions: Sequence[int], proved: bool) -> Offer | None:
    """The offer as it comes out when the rest is laid out; None where that does not fit, or nothing is left."""
    gone = set(positions)
    kept = [position for position in range(len(layout.tracks)) if position not in gone]
    again = laid_out_again(layout, kept)
    if not kept or not gone or not again.fits:
        return None
    total = again.total_sectors
    numbers = tuple(layout.tracks[position].number for position in positions)
    saved = layout.total_sectors - total
    word = "track" if len(numbers) == 1 else "tracks"
    shown = _listed([str(number) for number in numbers[:8]], more=len(numbers) > 8)
    text = f"leave out {word} {shown}: saves {spoken_time(saved)}"
    return Offer(kind=kind, text=text, total_sectors=total, removed=numbers, proved=proved)


def _adds_up(layout: DiscLayout) -> bool:
    """Whether a track's cost is its own, whichever others stay: one gap throughout, nothing that runs on, and no sound
    in gaps. Only then are the best choices proved."""
    even = len({track.gap_sectors for track in layout.tracks[1:]}) <= 1
    return even and not any(track.runs_on or track.programme.lead for track in layout.tracks)


def _costs(layout: DiscLayout) -> list[int]:
    """What leaving each track out saves; the first is taken to have the gap of the others, which then goes too."""
    gap = layout.tracks[1].gap_sectors if len(layout.tracks) > 1 else 0
    return [track.sectors + (track.gap_sectors if position else gap) for position, track in enumerate(layout.tracks)]


_MOST_TRIES = 8
"""How often more is left out where costs do not simply add up."""


def _by_cover(layout: DiscLayout, over: int, kinds: tuple[str, str], cover: "Cover") -> Offer | None:
    """kinds are what the offer is called when no fewer tracks or sectors would do, and when that is not known."""
    costs, asked = _costs(layout), over
    for _ in range(_MOST_TRIES):
        positions, sure = cover(costs, asked)
        least = asked == over and _adds_up(layout)
        offer = _removal(layout, kinds[0] if least else kinds[1], positions, least and sure)
        if offer is not None or len(positions) >= len(layout.tracks):
            return offer
        gone = set(positions)
        again = laid_out_again(layout, [at for at in range(len(layout.tracks)) if at not in gone])
        asked += max(1, -again.free_sectors)
    return None


Cover = Callable[[Sequence[int], int], tuple[list[int], bool]]


def _fewest(layout: DiscLayout, over: int) -> Offer | None:
    return _by_cover(layout, over, ("fewest", "few"), smallest_cover_of)


def _shortest(layout: DiscLayout, over: int) -> Offer | None:
    return _by_cover(layout, over, ("shortest", "short"), lambda costs, least: (smallest_cover(costs, least), True))


def split(layout: DiscLayout, medium: Medium, *, how: str, keep_albums: bool = False) -> Split:
    """Tracks over several discs: how is "even" or "fill", in order, or "free" for the fewest discs. Hidden sound and a
    longer first pause go with the first.

    Tracks longer than the medium get a disc of their own, which then does not fit.
    """
    layout = replace(layout, medium=medium)
    if how == "free":
        return _split_freely(layout, keep_albums)
    divide = even_runs if how == "even" else full_runs
    total = _total_in_order(layout)
    discs = divide(len(layout.tracks), total, medium.capacity_sectors, most_pieces=MAX_TRACKS)
    return _as_split(layout, discs, proved=True)


def _total_in_order(layout: DiscLayout) -> Total:
    """What neighbours take on a disc of their own, worked out from where they stand now: only of a stretch of tracks
    that run on with each other, and is cut, the sectors are counted anew."""
    tracks = layout.tracks
    first_of, last_of = list(range(len(tracks))), list(range(len(tracks)))
    begins: list[tuple[int, int]] = []
    ends: list[int] = []
    for at, track in enumerate(tracks):
        lead = track.programme.lead.samples if track.programme.lead and at else 0
        before = ends[-1] if track.runs_on and at else 0
        begins.append((before, before + lead))
        ends.append(before + lead + track.programme.samples)
        if track.runs_on and at:
            first_of[at] = first_of[at - 1]
    for at in range(len(tracks) - 2, -1, -1):
        last_of[at] = last_of[at + 1] if tracks[at + 1].runs_on else at

    def stretch(start: int, last: int, with_lead: bool) -> int:
        programme = tracks[last].programme
        samples = round((ends[last] - begins[start][not with_lead]) * SAMPLE_RATE / programme.sample_rate)
        return sectors_for_samples(samples) + programme.postgap_sectors

    def total(start: int, end: int) -> int:
        last, begun = end - 1, 0 if start else tracks[0].start_sector
        if last_of[start] >= last:
            return begun + stretch(start, last, False)
        head, tail = last_of[start], first_of[last]
        between = tracks[tail].start_sector - tracks[tail].lead_sectors - tracks[head].end_sector
        return begun + stretch(start, head, False) + between + stretch(tail, last, True)

    return total


def _as_split(layout: DiscLayout, discs: Sequence[Sequence[int]], *, proved: bool) -> Split:
    """With what each disc takes when it is laid out."""
    again = [laid_out_again(layout, disc, later=bool(number)) for number, disc in enumerate(discs)]
    return Split(
        discs=tuple(tuple(disc) for disc in discs), total_sectors=tuple(each.total_sectors for each in again),
        proved=proved and all(each.fits or len(each.tracks) == 1 for each in again),
    )  # fmt: skip


def _split_freely(layout: DiscLayout, keep_albums: bool) -> Split:
    """Pieces are tracks that run on with each other, or whole albums; a disc's first piece needs no gap."""
    tracks, capacity = layout.tracks, layout.medium.capacity_sectors
    groups: dict[object, list[int]] = {}
    for position, track in enumerate(tracks):
        if keep_albums and track.programme.album:
            groups.setdefault(track.programme.album, []).append(position)
        elif track.runs_on and groups:
            next(reversed(groups.values())).append(position)
        else:
            groups[position] = [position]
    pieces = [piece for group in groups.values() for piece in _cut_to_size(group, layout)]
    gaps = [0 if 0 in piece else _gap_apart(tracks[piece[0]], layout) for piece in pieces]
    usual = min((gap for piece, gap in zip(pieces, gaps, strict=True) if 0 not in piece), default=0)
    # Each with the gap before it, of which the first of a disc needs none: that much more room there is for certain.
    costs = [
        laid_out_again(layout, piece, later=0 not in piece).total_sectors + (usual if 0 in piece else gap)
        for piece, gap in zip(pieces, gaps, strict=True)
    ]
    room = capacity + usual
    packed = pack([min(cost, room) for cost in costs], room, most_pieces=MAX_TRACKS, counts=[len(p) for p in pieces])
    discs = [sorted(position for piece in disc for position in pieces[piece]) for disc in packed.discs]
    discs.sort(key=lambda disc: disc[0])
    return _as_split(layout, discs, proved=packed.proved and _adds_up(layout))


def _gap_apart(track: DiscTrack, layout: DiscLayout) -> int:
    """The gap of a track that stands behind another than before: also of one that ran on from it."""
    if not track.runs_on:
        return track.gap_sectors
    own, lead = track.programme.gap_sectors, track.programme.lead
    silence = layout.gap_sectors if own is None else own
    return silence + (sectors_for_samples(lead.disc_samples) if lead else 0)


def _cut_to_size(group: list[int], layout: DiscLayout) -> list[list[int]]:
    """Albums that no disc holds are divided in order."""

    def total(start: int, end: int) -> int:
        return laid_out_again(layout, group[start:end], later=group[start] > 0).total_sectors

    runs = full_runs(len(group), total, layout.medium.capacity_sectors, most_pieces=MAX_TRACKS)
    return [[group[n] for n in run] for run in runs]


@dataclass(frozen=True, slots=True, kw_only=True)
class PoolFill:
    """Positions in the pool that fill what is left of a disc, and the sectors still free then. proved says that
    nothing fills it better."""

    positions: tuple[int, ...]
    free_sectors: int
    proved: bool = True


def fill_from_pool(layout: DiscLayout, pool_sectors: Sequence[int], *, gap_sectors: int) -> PoolFill:
    """What fills the room left best, of no more tracks than a disc takes."""
    room = layout.free_sectors
    slots = MAX_TRACKS - len(layout.tracks)
    if room <= 0 or slots <= 0:
        return PoolFill(positions=(), free_sectors=max(0, room))
    lead = 0 if layout.tracks else gap_sectors
    costs = [sectors + gap_sectors for sectors in pool_sectors]
    chosen, proved = fullest_of_at_most(costs, room + lead, slots)
    left = room + (lead if chosen else 0) - sum(costs[position] for position in chosen)
    return PoolFill(positions=tuple(chosen), free_sectors=left, proved=proved)
