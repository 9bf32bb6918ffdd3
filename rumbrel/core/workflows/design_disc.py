"""From a disc's design and what is known of its sounds to the disc laid out and judged, with what would make it fit.

Nothing is opened here: the facts and what measuring found are given, so that a change can be shown at once.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from rumbrel.core.disc.checklist import Finding, checklist
from rumbrel.core.disc.design import DiscDesign, TrackDesign
from rumbrel.core.disc.layout import DiscLayout, DiscTrack, Programme, lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import SAMPLE_RATE, SAMPLES_PER_SECTOR, SECTORS_PER_SECOND
from rumbrel.core.disc.text import DiscText, text_of, titled, with_plain_codes
from rumbrel.core.disc.text_rules import coded_text, packs_by_choice
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import Facts
from rumbrel.core.sound.decoding import Stretch
from rumbrel.core.targets import LevelRule
from rumbrel.core.verdict import Verdict

from .disc_sounds import Sound, levelled_programmes
from .find_joins import Pair, touching

__all__ = ["Bases", "DesignPlan", "Laid", "plan_design"]


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
        return coded_text(self.text, self.design.text_choice)

    @property
    def packs(self) -> bytes | None:
        """The packs of its CD-Text, b"" for none; None where every text goes into it. Raises DiscError."""
        return packs_by_choice(self.text, self.design.text_choice)

    @property
    def failed(self) -> Finding | None:
        """Why the disc may not be written, None where it may."""
        return next((finding for finding in self.findings if finding.verdict is Verdict.FAILED), None)

    @property
    def writable(self) -> bool:
        return self.failed is None and self.layout.fits


def plan_design(design: DiscDesign, sounds: Mapping[int, Sound], *, meetings: Collection[Pair] = ()) -> DesignPlan:
    """Lay out and judge. meetings are neighbours that were found to be one recording.

    A row that cannot be used is a failed line with the reason: the disc would lack it unsaid.
    """
    bases = Bases(sounds)
    found = bases.of(design)
    measured = [sounds[track.source_id].measured for track in found.tracks]
    rule = LevelRule(mode=design.level, loudness_lufs=design.loudness_lufs, ceiling_dbtp=design.ceiling_dbtp)
    layout = _laid_out(design, sounds, levelled_programmes(found.chosen(design.trims), measured, rule))
    text = _text(design, layout)
    layout = titled(layout, text)
    known = all(sounds[track.source_id].measured is not None for track in found.tracks)
    saves = None
    if known and found.tracks:
        whole, trimmed = (_laid_out(design, sounds, found.chosen(trims)).total_sectors for trims in (False, True))
        saves = whole - trimmed
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
        findings=(*lines, *_refused_joins(found), *checklist(layout, text, choice=design.text_choice)),
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


class Bases:
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
        return _laid_out(design, self._sounds, self.of(design).chosen(design.trims))


def _refused_joins(found: "_Usable") -> list[Finding]:
    """Tracks that shall run on from one that they cannot run on from, with the reason: they begin anew."""
    lines = []
    for number, (track, before, after) in enumerate(
        zip(found.tracks[1:], found.whole, found.whole[1:], strict=False), 2
    ):
        if not track.runs_on or after.runs_on:
            continue
        if before.sample_rate != after.sample_rate:
            why = f"it is of {after.sample_rate / 1000:g} kHz, track {number - 1} of {before.sample_rate / 1000:g} kHz"
        else:
            why = f"it has {_channels_said(after.channels)}, track {number - 1} {_channels_said(before.channels)}"
        text = f"track {number} cannot run on: {why}. It gets a gap instead"
        lines.append(Finding(code="run-on", verdict=Verdict.DOUBTFUL, text=text))
    return lines


def _channels_said(channels: int) -> str:
    return "one channel" if channels == 1 else f"{channels} channels"


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
        pre_emphasis=track.pre_emphasis or programme.pre_emphasis, postgap_sectors=track.postgap_sectors, index_samples=marks, **texts,
    )  # fmt: skip


_PLAIN = TrackDesign(key=0, source_id=0)


def _with_leads(
    programmes: Sequence[Programme], tracks: Sequence[TrackDesign], sounds: Mapping[int, Sound]
) -> list[Programme]:
    """With the sound of their files that lies in their gaps. Where that is the end of the track before, it is no part of
    that any more."""
    found: list[Programme] = []
    for number, (programme, track) in enumerate(zip(programmes, tracks, strict=True)):
        before = sounds[tracks[number - 1].source_id].facts if number else None
        lead = _lead(programme, track, sounds)
        if lead is not None and _is_its_end(before, lead):
            if found[-1].samples > lead.samples:
                found[-1] = replace(found[-1], samples=found[-1].samples - lead.samples)
            else:
                lead = None
        found.append(programme if lead is None else replace(programme, lead=lead))
    return found


def _lead(programme: Programme, track: TrackDesign, sounds: Mapping[int, Sound]) -> Programme | None:
    """The sound in a track's gap: so many sectors of its file before its part, or what another file has there; None where
    there is no such sound."""
    facts = sounds[track.source_id].facts
    if track.lead is not None:
        other = sounds.get(track.lead.source_id)
        start = track.lead.start_sample
        return _heard_before(programme, other.facts if other else None, start, start + track.lead.samples)
    if not track.lead_sectors or facts is None or facts.stretch is None:
        return None
    end = facts.stretch.start_sample
    at = round(end * SECTORS_PER_SECOND / facts.sample_rate) - track.lead_sectors
    return _heard_before(programme, facts, round(at * facts.sample_rate / SECTORS_PER_SECOND), end)


def _heard_before(programme: Programme, facts: Facts | None, start: int, end: int) -> Programme | None:
    """From one sample of a file to another, as the sound before a programme."""
    if facts is None:
        return None
    whole_samples = facts.samples if facts.stretch is None else facts.stretch.whole_samples
    if not 0 <= start < end <= whole_samples:
        return None
    cut = replace(facts, stretch=Stretch(start_sample=start, end_sample=end, whole_samples=whole_samples))
    return replace(
        programme, path=facts.path, choice=cut.choice(), samples=end - start, sample_rate=facts.sample_rate,
        channels=facts.channels, index_samples=(), lead=None, gap_sectors=None, runs_on=False, postgap_sectors=0,
    )  # fmt: skip


def _is_its_end(before: Facts | None, lead: Programme) -> bool:
    """Whether the sound in a gap is the end of the track before."""
    stretch = lead.choice.stretch
    if before is None or stretch is None or before.path != lead.path:
        return False
    end = before.samples if before.stretch is None else before.stretch.end_sample
    return end == stretch.end_sample


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


def _laid_out(design: DiscDesign, sounds: Mapping[int, Sound], programmes: Sequence[Programme]) -> DiscLayout:
    hidden, _ = _hidden(design, sounds)
    return lay_out(
        programmes, gap_sectors=design.gap_sectors, medium=medium_for(design.medium_key),
        first_pause_sectors=design.first_pause_sectors, hidden=hidden, dither=design.dither,
    )  # fmt: skip


def _text(design: DiscDesign, layout: DiscLayout) -> DiscText:
    """What the disc says of itself: what was typed, over what its tracks have in common."""
    own: dict[str, Any] = {name: text for name, text in design.texts.items() if name in _DISC_FIELDS}
    more: dict[str, Any] = {name: text for name, text in design.texts.items() if name not in _DISC_FIELDS}
    of_tags = text_of(layout, title="")
    said = replace(of_tags, disc=replace(of_tags.disc, **own), genre_code=design.genre_code, **more)
    return with_plain_codes(said)


_DISC_FIELDS = frozenset(("title", "performer", "songwriter", "composer", "arranger", "message"))


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
