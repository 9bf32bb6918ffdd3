"""From a disc's design and what is known of its sounds to the disc laid out and judged, with what would make it fit.

Nothing is opened here: the facts and what measuring found are given, so that a change can be shown at once.
"""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from rumbrel.core.conversion.levelling import Measured
from rumbrel.core.crew import Tell
from rumbrel.core.disc.checklist import Finding, checklist
from rumbrel.core.disc.cue_sheet import CueSheet, CueTrack
from rumbrel.core.disc.design import TRACK_TEXTS, DiscDesign, TrackDesign, divided, gaps_of_at_most, left_out
from rumbrel.core.disc.fitting import Split, offers, split
from rumbrel.core.disc.joins import meet_without_a_break
from rumbrel.core.disc.layout import DiscLayout, DiscTrack, Programme
from rumbrel.core.disc.media import medium_for, smallest_medium
from rumbrel.core.disc.red_book import (
    FIRST_PAUSE_SECTORS,
    SAMPLE_RATE,
    SAMPLES_PER_SECTOR,
    SECTORS_PER_SECOND,
    spoken_time,
)
from rumbrel.core.disc.text import DiscText, TrackText, packs_by_rule, thinned
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.targets import LevelRule
from rumbrel.core.verdict import Verdict

from .crewed import carried_out
from .make_disc import DiscWish, levelled_programmes, programme_of

__all__ = [
    "DesignOffer",
    "DesignPlan",
    "Laid",
    "Sound",
    "design_offers",
    "find_meetings",
    "may_meet",
    "plan_design",
    "sheet_design",
    "touching",
]

Pair = tuple[int, int]
"""The sounds of two neighbours, the earlier one first."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Sound:
    """What is known of a sound: its facts, the title it goes by, what measuring found (None before), and why it cannot
    be used now, where something beside its facts says so."""

    facts: Facts | None
    title: str
    measured: Measured | None = None
    reason: str = ""

    def programme(self) -> Programme:
        """Raises DiscError with what is wrong and what to do."""
        if self.reason:
            raise DiscError(self.reason)
        if self.facts is None:
            raise DiscError("Its facts have not been read yet. Scan its folder first.")
        if not self.facts.usable or not self.facts.ok:
            raise DiscError(self.facts.faults[0].text if self.facts.faults else "There is no sound in it.")
        return replace(programme_of(self.facts), title=self.title)


@dataclass(frozen=True, slots=True, kw_only=True)
class Laid:
    """A row of the list: its track on the disc, None for one that is left out or cannot be used, which reason tells.

    joins says that it is one recording with the one before and could run on from it; not where it was given a gap.
    """

    design: TrackDesign
    title: str
    performer: str
    track: DiscTrack | None = None
    reason: str = ""
    joins: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class DesignPlan:
    """rows are the whole list in its order. unmeasured counts what would have to be measured, trim_saves the sectors
    that lie in silence at the ends of tracks (None before they are known)."""

    design: DiscDesign
    rows: tuple[Laid, ...]
    layout: DiscLayout
    text: DiscText
    findings: tuple[Finding, ...]
    unmeasured: int
    trim_saves: int | None

    @property
    def keys(self) -> tuple[int, ...]:
        """The keys of the tracks on the disc, in their order."""
        return tuple(row.design.key for row in self.rows if row.track is not None)

    @property
    def coded(self) -> DiscText:
        """What of its texts goes into its CD-Text."""
        return thinned(self.text, self.design.cd_text)

    @property
    def packs(self) -> bytes | None:
        """The packs of its CD-Text, b"" for none; None where every text goes into it. Raises DiscError."""
        return packs_by_rule(self.text, self.design.cd_text)

    @property
    def failed(self) -> Finding | None:
        """Why the disc may not be written, None where it may."""
        return next((finding for finding in self.findings if finding.verdict is Verdict.FAILED), None)

    @property
    def writable(self) -> bool:
        return self.failed is None and self.layout.fits


def sheet_design(sheet: CueSheet, source_ids: Sequence[int], packs: DiscText | None = None) -> DiscDesign:
    """The very disc that a cue sheet of one file describes, whose tracks are the parts of that file in their order. packs
    is what its CD-Text file holds. Raises DiscError for a sheet that says of a disc what a design cannot."""
    tracks = sheet.tracks
    if sheet.data_tracks:
        raise DiscError("Its cue sheet has data tracks as well. Lay its sound out as a playlist.")
    if len({file for track in tracks for file in (track.file, track.gap_file) if file}) > 1:
        raise DiscError("Its cue sheet names several files. Add the sheet's image to the bench, or lay out a playlist.")
    if any(track.postgap_sectors for track in tracks):
        raise DiscError("Its cue sheet has silence behind tracks (POSTGAP), which cannot be changed here.")
    said = packs.tracks if packs is not None and len(packs.tracks) == len(tracks) else (None,) * len(tracks)
    made = [
        TrackDesign(
            key=number, source_id=source_id, gap_sectors=track.silence_sectors if number > 1 else None,
            runs_on=number > 1 and not track.silence_sectors, lead_sectors=_lead_sectors(sheet, track),
            index_sectors=tuple(mark - track.start_sector for mark in track.index_sectors),
            copy_permitted=track.copy_permitted, pre_emphasis=track.pre_emphasis, texts=_texts_of(track, sheet, text),
        )
        for number, (track, source_id, text) in enumerate(zip(tracks, source_ids, said, strict=True), 1)
    ]  # fmt: skip
    texts = {"title": sheet.title, "performer": sheet.performer, "product_code": sheet.product_code}
    return DiscDesign(
        first_pause_sectors=FIRST_PAUSE_SECTORS + tracks[0].silence_sectors, tracks=tuple(made),
        texts={name: text for name, text in texts.items() if text},
    )  # fmt: skip


def _lead_sectors(sheet: CueSheet, track: CueTrack) -> int:
    gap_sector = sheet.gap_sector_of(track)
    return 0 if gap_sector is None else track.start_sector - gap_sector


def _texts_of(track: CueTrack, sheet: CueSheet, packs: TrackText | None) -> dict[str, str]:
    own = {
        "title": track.title, "performer": track.performer or sheet.performer, "songwriter": track.songwriter,
        "isrc": track.isrc,
    }  # fmt: skip
    fuller = {name: getattr(packs, name) or own.get(name, "") for name in TRACK_TEXTS} if packs is not None else own
    return {name: text for name, text in fuller.items() if text}


def touching(before: Facts | None, after: Facts | None) -> bool:
    """Whether two sounds are stretches of one file of which the second begins where the first ends."""
    if before is None or after is None or before.stretch is None or after.stretch is None:
        return False
    return before.path == after.path and before.stretch.end_sample == after.stretch.start_sample


def plan_design(design: DiscDesign, sounds: Mapping[int, Sound], *, meetings: Collection[Pair] = ()) -> DesignPlan:
    """Lay out and judge. meetings are neighbours that were found to be one recording.

    A row that cannot be used is a failed line with the reason: the disc would lack it unsaid.
    """
    bases = _Bases(sounds)
    found = bases.of(design)
    wish = _wish(design, sounds)
    measured = [sounds[track.source_id].measured for track in found.tracks]
    layout = wish.lay_out(levelled_programmes(found.chosen(design.trims), measured, LevelRule(mode=design.level)))
    text = wish.text(layout)
    known = all(sounds[track.source_id].measured is not None for track in found.tracks)
    saves = None
    if known and found.tracks:
        saves = wish.lay_out(found.chosen(False)).total_sectors - wish.lay_out(found.chosen(True)).total_sectors
    lines = [_unusable(design, key, reason, sounds) for key, reason in found.refused.items()]
    _, unheard = _hidden(design, sounds)
    if unheard:
        said = f"The sound before track 1 cannot be used: {unheard[0].lower()}{unheard[1:].rstrip('.')}. Or choose none"
        lines.append(Finding(code="hidden", verdict=Verdict.FAILED, text=said))
    positions = {track.key: number for number, track in enumerate(found.tracks)}
    return DesignPlan(
        design=design,
        rows=_rows(design, sounds, positions, layout, found.refused, set(meetings)),
        layout=layout,
        text=text,
        findings=(*lines, *checklist(layout, text, rule=design.cd_text)),
        unmeasured=sum(1 for track in found.tracks if sounds[track.source_id].measured is None),
        trim_saves=saves,
    )


@dataclass(frozen=True, slots=True)
class _Usable:
    """The tracks that can lie on the disc with their programmes, whole and without the silence at their ends; and the
    keys of those that cannot, with the reason."""

    tracks: list[TrackDesign]
    whole: list[Programme]
    trimmed: list[Programme]
    refused: dict[int, str]

    def chosen(self, trims: bool) -> list[Programme]:
        return self.trimmed if trims else self.whole


class _Bases:
    """The programmes of sounds as their files are, each worked out once for however many designs."""

    def __init__(self, sounds: Mapping[int, Sound]) -> None:
        self._sounds = sounds
        self._kept: dict[int, Programme | str] = {}

    def _base(self, source_id: int) -> Programme | str:
        """The programme, or why there is none."""
        if source_id not in self._kept:
            try:
                self._kept[source_id] = self._sounds[source_id].programme()
            except KeyError:
                self._kept[source_id] = "It left the collection."
            except DiscError as error:
                self._kept[source_id] = str(error)
        return self._kept[source_id]

    def of(self, design: DiscDesign) -> _Usable:
        tracks, programmes, refused = [], [], {}
        for track in design.kept:
            base = self._base(track.source_id)
            if isinstance(base, str):
                refused[track.key] = base
            else:
                tracks.append(track)
                programmes.append(_said(base, track))
        whole = _joined(_with_leads(programmes, tracks, self._sounds))
        return _Usable(tracks, whole, _trimmed(whole, tracks, self._sounds), refused)

    def lay_out(self, design: DiscDesign) -> DiscLayout:
        """The layout alone, for comparing."""
        return _wish(design, self._sounds).lay_out(self.of(design).chosen(design.trims))


def _unusable(design: DiscDesign, key: int, reason: str, sounds: Mapping[int, Sound]) -> Finding:
    sound = sounds.get(design.track(key).source_id)
    name = sound.title if sound else "A track"
    text = f"{name} cannot be used: {reason[0].lower()}{reason[1:].rstrip('.')}. Or leave it out"
    return Finding(code="unusable", verdict=Verdict.FAILED, text=text)


def _said(programme: Programme, track: TrackDesign) -> Programme:
    """The sound with what the design says of it."""
    if replace(track, key=0, source_id=0) == _PLAIN:
        return programme
    texts: dict[str, Any] = dict(track.texts)
    marks = tuple(
        round(sector * SAMPLES_PER_SECTOR * programme.sample_rate / SAMPLE_RATE) for sector in track.index_sectors
    )
    return replace(
        programme, gap_sectors=track.gap_sectors, runs_on=track.runs_on, copy_permitted=track.copy_permitted,
        pre_emphasis=track.pre_emphasis, index_samples=marks, **texts,
    )  # fmt: skip


_PLAIN = TrackDesign(key=0, source_id=0)


def _with_leads(
    programmes: Sequence[Programme], tracks: Sequence[TrackDesign], sounds: Mapping[int, Sound]
) -> list[Programme]:
    """With the sound of their files that lies in their gaps. Where that is the end of the track before, it is no part of
    that any more."""
    found: list[Programme] = []
    for number, (programme, track) in enumerate(zip(programmes, tracks, strict=True)):
        facts = sounds[track.source_id].facts
        lead = _lead(facts, programme, track.lead_sectors) if facts and track.lead_sectors else None
        if lead is not None and number and touching(sounds[tracks[number - 1].source_id].facts, facts):
            if found[-1].samples > lead.samples:
                found[-1] = replace(found[-1], samples=found[-1].samples - lead.samples)
            else:
                lead = None
        found.append(programme if lead is None else replace(programme, lead=lead))
    return found


def _lead(facts: Facts, programme: Programme, sectors: int) -> Programme | None:
    """So many sectors of the file before a part; None where there is no such sound."""
    if facts.stretch is None:
        return None
    end = facts.stretch.start_sample
    at = round(end * SECTORS_PER_SECOND / facts.sample_rate) - sectors
    start = round(at * facts.sample_rate / SECTORS_PER_SECOND)
    if not 0 <= start < end:
        return None
    before = replace(facts.stretch, start_sample=start, end_sample=end)
    return replace(
        programme, choice=replace(facts, stretch=before).choice(), samples=end - start, index_samples=(), lead=None,
        gap_sectors=None, runs_on=False,
    )  # fmt: skip


def _joined(programmes: Sequence[Programme]) -> list[Programme]:
    """What runs on does so from something of the same rate and channels; else it begins anew."""
    found: list[Programme] = []
    for programme in programmes:
        before = found[-1] if found else None
        shape = (programme.sample_rate, programme.channels)
        if programme.runs_on and (before is None or (before.sample_rate, before.channels) != shape):
            programme = replace(programme, runs_on=False)
        found.append(programme)
    return found


def _trimmed(
    programmes: Sequence[Programme], tracks: Sequence[TrackDesign], sounds: Mapping[int, Sound]
) -> list[Programme]:
    """Without the silence at the ends; a join keeps what lies at it."""
    found = []
    for number, (programme, track) in enumerate(zip(programmes, tracks, strict=True)):
        measured = sounds[track.source_id].measured
        after = programmes[number + 1] if number + 1 < len(programmes) else None
        goes_on = after is not None and bool(after.runs_on or after.lead)
        if measured is None or measured.ends.leading_samples >= measured.samples:
            found.append(programme)
            continue
        start = 0 if programme.runs_on or programme.lead else measured.ends.leading_samples
        end = 0 if goes_on else measured.ends.trailing_samples
        marks = tuple(mark - start for mark in programme.index_samples)
        found.append(
            replace(programme, start_sample=start, samples=programme.samples - start - end, index_samples=marks)
        )
    return found


def _hidden(design: DiscDesign, sounds: Mapping[int, Sound]) -> tuple[Programme | None, str]:
    """(the sound before track 1, None for none; why it cannot be used)."""
    if design.hidden_id is None:
        return None, ""
    if design.hidden_id not in sounds:
        return None, "It left the collection."
    try:
        return sounds[design.hidden_id].programme(), ""
    except DiscError as error:
        return None, str(error)


def _wish(design: DiscDesign, sounds: Mapping[int, Sound]) -> DiscWish:
    hidden, _ = _hidden(design, sounds)
    texts = dict(design.texts)
    return DiscWish(
        medium=medium_for(design.medium_key), gap_sectors=design.gap_sectors,
        first_pause_sectors=design.first_pause_sectors, hidden=hidden, title=texts.pop("title", ""), texts=texts,
        genre_code=design.genre_code, dither=design.dither,
    )  # fmt: skip


def _rows(
    design: DiscDesign,
    sounds: Mapping[int, Sound],
    positions: Mapping[int, int],
    layout: DiscLayout,
    refused: Mapping[int, str],
    meetings: set[Pair],
) -> tuple[Laid, ...]:
    rows = []
    before: TrackDesign | None = None
    for track in design.tracks:
        sound = sounds.get(track.source_id, Sound(facts=None, title="a track that left the collection"))
        at = positions.get(track.key)
        laid = layout.tracks[at] if at is not None else None
        performer = sound.facts.tags.first("artist") if sound.facts else ""
        row = Laid(
            design=track, track=laid, reason=refused.get(track.key, ""),
            title=laid.programme.title if laid else track.texts.get("title", sound.title),
            performer=laid.programme.performer if laid else track.texts.get("performer", performer),
        )  # fmt: skip
        if laid is not None:
            if before is not None and not laid.runs_on:
                earlier = sounds.get(before.source_id)
                one = (before.source_id, track.source_id) in meetings
                touch = earlier is not None and touching(earlier.facts, sound.facts)
                # A gap of its own is the answer already.
                row = replace(row, joins=(one or touch) and track.gap_sectors is None)
            before = track
        rows.append(row)
    return tuple(rows)


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


def design_offers(planned: DesignPlan, sounds: Mapping[int, Sound]) -> tuple[DesignOffer, ...]:
    """What would make it fit, the most harmless first; what would not be enough stands there too, so that nobody
    tries it in vain. Every result was laid out. None for a disc that fits."""
    layout = planned.layout
    if layout.free_sectors >= 0 or not layout.tracks:
        return ()
    bases = _Bases(sounds)
    tried = partial(_tried, planned, bases)
    found = [*_by_gaps_and_ends(planned, tried), *_by_leaving_out(planned, tried), *_by_dividing(planned, bases)]
    bigger = smallest_medium(layout.total_sectors)
    if bigger is not None:
        one = replace(planned.design, medium_key=bigger.key)
        doubt = ", which some drives and players refuse" if bigger.beyond_standard else ""
        found.append(tried(f"medium-{bigger.key}", f"{bigger.a_label}{doubt}", one))
    return tuple(found)


def _tried(
    planned: DesignPlan, bases: _Bases, key: str, text: str, design: DiscDesign, proved: bool = True
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
    for offer in offers(planned.layout):
        if not offer.removed:
            continue
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


def _by_dividing(planned: DesignPlan, bases: _Bases) -> list[DesignOffer]:
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
        minutes = " + ".join(f"{round(total / SECTORS_PER_SECOND / 60)}" for total in totals[:8])
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


@dataclass(frozen=True, slots=True)
class _PairTask:
    pair: Pair
    before: Programme
    after: Programme


def _meets(task: _PairTask, tell: Tell) -> tuple[Pair, bool]:
    tell(0.0)
    return task.pair, meet_without_a_break(task.before, task.after)


def find_meetings(pairs: Sequence[tuple[Pair, Facts, Facts]], *, jobs: int) -> Iterator[tuple[Pair, bool] | Progress]:
    """Yield (pair, whether the sound goes on from the one into the other), with Progress in between. Tracks of one
    album in the same shape are compared; others are no candidates."""
    tasks = [_PairTask(pair, programme_of(before), programme_of(after)) for pair, before, after in pairs]
    yield from carried_out(
        _meets, tasks, jobs=jobs, weigh=lambda task: task.before.samples / task.before.sample_rate, unit=Unit.SECONDS,
        step="looking for recordings that run on", lost=lambda task, death: (task.pair, False),
    )  # fmt: skip


def may_meet(before: Facts, after: Facts) -> bool:
    """Whether two sounds are worth comparing: tracks of one album in one shape."""
    album = before.tags.first("album")
    shape = (before.sample_rate, before.channels)
    return bool(album) and album == after.tags.first("album") and shape == (after.sample_rate, after.channels)
