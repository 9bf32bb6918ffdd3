"""A disc as its screens show it."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

from rumbrel.core.bench.recorder import steps_of
from rumbrel.core.disc.design import DiscDesign, DiscKind
from rumbrel.core.disc.layout import DiscLayout, DiscTrack, Programme, radius_mm
from rumbrel.core.disc.media import Medium, medium_for
from rumbrel.core.disc.packs import MOST_PACKS, TextUse, japanese_of, text_use
from rumbrel.core.disc.red_book import MIN_TRACK_SECTORS, format_msf, sectors_for_samples, spoken_time
from rumbrel.core.disc.text_codes import as_coded, lost_in, transliterated
from rumbrel.core.disc.text_rules import TEXT_RULES, rules_that_fit, thinned
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.design_data import DataPlan
from rumbrel.core.workflows.design_disc import DesignPlan
from rumbrel.core.workflows.offer_disc import DesignOffer
from rumbrel.web.ui.templatetags.figures import signed
from rumbrel.web.ui.words import NBSP, counted

from .forms import gap_text
from .models import Disc
from .services import PlannedDisc

__all__ = [
    "KIND_SAID",
    "Geometry",
    "PackUse",
    "Remark",
    "TrackRow",
    "file_rows",
    "free_said",
    "geometry",
    "is_as_written",
    "pack_use",
    "remarks_of",
    "stage_rows",
    "track_rows",
    "remedies_of",
    "write_rows",
    "written_rows",
    "written_to_mm",
]

RIM_MM = 59.0

KIND_SAID: Mapping[DiscKind, tuple[str, str]] = {
    DiscKind.AUDIO: (
        "Plays on every standard player and in cars.",
        "It holds time, not files: 99 tracks of sound at 44.1 kHz and 16 bits, in two channels.",
    ),
    DiscKind.FILES: (
        "Plays on players of compressed files and in computers.",
        "A standard CD player shows no tracks on it, or plays nothing. Ask the player's handbook for its formats.",
    ),
    DiscKind.DATA: (
        "Is read by computers.",
        "No standard player plays it. The files lie on it as they are, with everything that they hold.",
    ),
}
"""What each kind of disc is for, and the warning that goes with it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackRow:
    """A row of the list, its figures as they are shown: a disc is drawn anew with every change. number is "" for one
    that does not lie on the disc; equal is its read-back, None where it was not written as it is now. gap is the
    field's text, lead the sound that lies in the gap as well, coded what a player shows of the title where that differs."""

    key: str
    track_id: str
    number: str = ""
    title: str
    performer: str
    gap: str = ""
    lead: str = ""
    first: bool = False
    start: str = ""
    length: str = ""
    gain: str = ""
    over: bool = False
    left_out: bool = False
    reason: str = ""
    equal: bool | None = None
    coded: str = ""


def is_as_written(disc: Disc, planned: PlannedDisc) -> bool:
    """Whether what stands on the disc is what the screen shows."""
    return bool(disc.written_mark) and disc.written_mark == planned.mark


def track_rows(disc: Disc, planned: PlannedDisc, plan: DesignPlan) -> list[TrackRow]:
    as_written = is_as_written(disc, planned)
    equal = {v["number"]: v["equal"] for v in disc.verdicts} if as_written else {}
    capacity = plan.layout.medium.capacity_sectors
    rows = []
    for row in plan.rows:
        design, track = row.design, row.track
        if track is None:
            rows.append(
                TrackRow(
                    key=str(design.key), track_id=str(design.source_id), title=row.title, performer=row.performer,
                    left_out=design.left_out, reason=row.reason,
                )
            )  # fmt: skip
            continue
        coded = as_coded(plan.design.spellings.get(row.title, row.title))
        programme = track.programme
        rows.append(
            TrackRow(
                key=str(design.key), track_id=str(design.source_id), number=str(track.number), title=row.title,
                performer=row.performer, first=track.number == 1, gap=_gap_said(plan, track), lead=_lead_said(plan, track),
                start=format_msf(track.start_sector), length=format_msf(track.sectors),
                gain=signed(programme.gain_db) if programme.state is not None else "–",
                over=track.end_sector > capacity, equal=equal.get(track.number),
                coded=coded if coded != row.title else "",
            )
        )  # fmt: skip
    return rows


def _gap_said(plan: DesignPlan, track: DiscTrack) -> str:
    """The gap before a track as its field shows it; before the first it is the first pause."""
    if track.runs_on:
        return "runs on"
    return _seconds_said(plan.design.first_pause_sectors if track.number == 1 else track.silence_sectors)


def _lead_said(plan: DesignPlan, track: DiscTrack) -> str:
    """How long the sound in its gap is; before the first, what is hidden there."""
    lead = track.programme.lead
    if lead is None or (track.number == 1 and plan.design.hidden_id is not None):
        return ""
    return f"{_seconds_said(sectors_for_samples(lead.disc_samples))} of sound before it"


def _seconds_said(sectors: int) -> str:
    text = gap_text(sectors)
    return text if ":" in text else f"{text} s"


@dataclass(frozen=True, slots=True, kw_only=True)
class FileRow:
    """A row of a disc of files."""

    key: int
    track_id: int
    number: int
    title: str
    performer: str
    name: str
    folder: str
    action: str
    size_bytes: int
    exact: bool
    left_out: bool
    reason: str
    over: bool = False
    equal: bool | None = None


def file_rows(disc: Disc, planned: PlannedDisc, plan: DataPlan) -> list[FileRow]:
    equal = {v["number"]: v["equal"] for v in disc.verdicts} if is_as_written(disc, planned) else {}
    rows, at = [], 0
    for row in plan.rows:
        at += row.sectors
        rows.append(
            FileRow(
                key=row.design.key, track_id=row.design.source_id, number=row.number, title=row.file.title,
                performer=row.file.performer, name=row.name, folder=row.folder,
                action=row.file.action, size_bytes=row.file.size_bytes, exact=row.file.exact,
                left_out=row.design.left_out, reason=row.file.reason, over=at > plan.medium.capacity_sectors,
                equal=equal.get(row.number),
            )
        )  # fmt: skip
    return rows


def free_said(plan: DesignPlan | DataPlan) -> tuple[str, bool]:
    """(how much is free or over, in words; whether it is over)."""
    if isinstance(plan, DesignPlan):
        free = plan.layout.free_sectors
        return f"{'free' if free >= 0 else 'over by'} {spoken_time(abs(free))}", free < 0
    megabytes = abs(plan.free_sectors) * 2048 / 1e6
    return f"{'free' if plan.free_sectors >= 0 else 'over by'} {megabytes:,.1f}{NBSP}MB", plan.free_sectors < 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Remark:
    """A line of the checklist that is doubtful or failed, with its remedy as an act: its name, its label, and what is
    sent with it. verdict is None for another remedy of the line before. anchor is a place of the page where it is put
    right, seam_key the track whose join with the one before can be heard."""

    verdict: Verdict | None
    text: str
    act: str = ""
    label: str = ""
    values: Mapping[str, str] = field(default_factory=dict)
    anchor: str = ""
    seam_key: int = 0


def remarks_of(plan: DesignPlan | DataPlan) -> list[Remark]:
    """What failed first, then what is doubtful; joins that are proposed come last."""
    found: list[Remark] = []
    wanting = [finding for finding in plan.findings if finding.verdict is not Verdict.PASSED]
    for finding in sorted(wanting, key=lambda each: each.verdict is not Verdict.FAILED):
        found.append(_remedied(finding.code, Remark(verdict=finding.verdict, text=finding.text), plan))
        if finding.code == "text" and finding.verdict is Verdict.FAILED and isinstance(plan, DesignPlan):
            found += _shorter_texts(plan)
        if finding.code == "shortest" and isinstance(plan, DesignPlan):
            found += _into_gap(plan)
    return found + (_joins(plan) if isinstance(plan, DesignPlan) else [])


def _into_gap(plan: DesignPlan) -> list[Remark]:
    """The first track that is too short, played in the gap before the one after it; none where none comes after, or
    one of another rate or number of channels: the two are converted as one."""
    rows = [(row, row.track) for row in plan.rows if row.track is not None]
    at = next((n for n, (_, track) in enumerate(rows) if track.sectors < MIN_TRACK_SECTORS), len(rows))
    if at + 1 >= len(rows):
        return []
    (row, track), (_, after) = rows[at], rows[at + 1]
    sound, following = track.programme, after.programme
    if (sound.sample_rate, sound.channels) != (following.sample_rate, following.channels) or following.lead:
        return []
    values = {
        "key": str(row.design.key),
        "start": str(_start_in_file(sound)),
        "samples": str(sound.samples),
    }
    text = f"track {track.number} plays in the gap before track {after.number}, {following.title}"
    return [Remark(verdict=None, text=text, act="into-gap", label="play in the gap", values=values)]


def _start_in_file(programme: Programme) -> int:
    stretch = programme.choice.stretch
    return programme.start_sample + (stretch.start_sample if stretch else 0)


def _shorter_texts(plan: DesignPlan) -> list[Remark]:
    """What of the texts would fit, the one that loses least first."""
    return [
        Remark(
            verdict=None, text=f"{'no packs' if not packs else f'{packs} of {MOST_PACKS} packs'} with {TEXT_RULES[rule]}",
            act="cd-text", label=TEXT_RULES[rule], values={"rule": rule},
        )
        for rule, packs in rules_that_fit(plan.text, plan.design.text_choice)
    ]  # fmt: skip


def _joins(plan: DesignPlan) -> list[Remark]:
    """A choice for each pair, named; and one for all of them where there are several."""
    rows = [row for row in plan.rows if row.joins and row.track is not None]
    found = []
    if len(rows) > 1:
        text = f"{counted(len(rows), 'join')} of one recording could run on without a break"
        keys = " ".join(str(row.design.key) for row in rows)
        found.append(_join(Verdict.DOUBTFUL, text, "run all on", keys))
    for row in rows[:_MOST_JOINS_NAMED]:
        assert row.track is not None
        number = row.track.number
        before = plan.layout.tracks[number - 2].programme.title
        text = f"tracks {number - 1} and {number} are one recording ({before}, {row.title}); shall they run on?"
        remark = _join(None if len(rows) > 1 else Verdict.DOUBTFUL, text, "run on", str(row.design.key))
        found.append(replace(remark, seam_key=row.design.key))
    return found


_MOST_JOINS_NAMED = 12


def _join(verdict: Verdict | None, text: str, label: str, keys: str) -> Remark:
    return Remark(verdict=verdict, text=text, act="join", label=label, values={"keys": keys, "on": "on"})


def _remedied(code: str, remark: Remark, plan: DesignPlan | DataPlan) -> Remark:
    """The remark with what can be done about it at once."""
    keys = _keys_of(code, plan)
    if code == "run-on" and keys:
        values = {"keys": " ".join(keys)}
        return Remark(verdict=remark.verdict, text=remark.text, act="join", label="add a gap", values=values)
    if code == "count" and isinstance(plan, DesignPlan) and remark.verdict is Verdict.FAILED and plan.keys:
        return Remark(verdict=remark.verdict, text=remark.text, label="divide it", anchor="offers")
    if code in ("unusable", "shortest", "sources") and keys:
        return Remark(
            verdict=remark.verdict, text=remark.text, act="leave", label="leave out",
            values={"keys": " ".join(keys), "out": "on"},
        )  # fmt: skip
    if code == "gaps":
        return Remark(
            verdict=remark.verdict, text=remark.text, act="most-gap", label="5 s at most", values={"gap": "5"}
        )
    if code == "clipping" and isinstance(plan, DesignPlan) and plan.design.level == "none":
        values = {"level": "album"}
        return Remark(verdict=remark.verdict, text=remark.text, act="sentence", label="album kept", values=values)
    if code == "text-lost" and isinstance(plan, DesignPlan):
        values = {"spellings": json.dumps({row.text: row.proposed for row in spellings_of(plan) if row.lost})}
        return Remark(verdict=remark.verdict, text=remark.text, act="spelling", label="transliterate", values=values)
    if code in ("text", "codes", "product-code", "hidden"):
        return Remark(verdict=remark.verdict, text=remark.text, label="edit CD-Text", anchor="cd-text")
    return remark


def _keys_of(code: str, plan: DesignPlan | DataPlan) -> list[str]:
    if code == "unusable":
        return [str(row.design.key) for row in plan.rows if row.reason and not row.design.left_out]
    if not isinstance(plan, DesignPlan):
        return []
    if code == "run-on":
        rows = [row for row in plan.rows if row.track is not None]
        return [str(row.design.key) for row in rows[1:] if row.design.runs_on and row.track and not row.track.runs_on]
    if code == "shortest":
        return [
            str(row.design.key) for row in plan.rows if row.track is not None and row.track.sectors < MIN_TRACK_SECTORS
        ][:1]
    return []


@dataclass(frozen=True, slots=True, kw_only=True)
class OfferRow:
    """A way to fit: what goes, what that saves, and what each disc then has left, by its name."""

    key: str
    what: str
    saves: str
    left: tuple[tuple[str, str], ...]
    fits: bool


def offer_rows(disc: Disc, offers: Sequence[DesignOffer]) -> list[OfferRow]:
    rows = []
    for offer in offers:
        what, _, saves = offer.text.partition(": saves ")
        names = [f"{disc.name} {number}" for number in range(1, len(offer.designs) + 1)] if offer.several else [""]
        left = [_left_said(design, total) for design, total in zip(offer.designs, offer.total_sectors, strict=True)]
        rows.append(
            OfferRow(
                key=offer.key, what=what.partition(": ")[0], saves=saves, fits=offer.fits,
                left=tuple(zip(names, left, strict=True)),
            )
        )  # fmt: skip
    return rows


def _left_said(design: DiscDesign, total_sectors: int) -> str:
    """What is free on a disc, or by how much it is over."""
    free = medium_for(design.medium_key).capacity_sectors - total_sectors
    word = "free" if free >= 0 else "over"
    if not free:
        return "exactly full"
    if design.kind is DiscKind.AUDIO:
        return f"{spoken_time(abs(free))} {word}"
    return f"{abs(free) * 2048 / 1e6:,.1f}{NBSP}MB {word}"


@dataclass(frozen=True, slots=True, kw_only=True)
class SpellingRow:
    """A text that the code of CD-Text changes: how it is spelled there, what is proposed, and whether players would show
    less than its letters."""

    text: str
    spelled: str
    proposed: str
    lost: bool


def spellings_of(plan: DesignPlan) -> list[SpellingRow]:
    """Each once, in the order of the disc."""
    kept = thinned(plan.text, plan.design.cd_text) if plan.design.cd_text != "none" else None
    said = [getattr(one, name) for one in (kept.disc, *kept.tracks) for name in _SPELLED] if kept else []
    chosen = plan.design.spellings
    return [
        SpellingRow(
            text=each, spelled=chosen.get(each, as_coded(each)), proposed=as_coded(transliterated(each)),
            lost=bool(lost_in(each)),
        ) for each in dict.fromkeys(said) if each and (as_coded(each) != each or each in chosen)
    ]  # fmt: skip


_SPELLED = ("title", "performer", "songwriter", "composer", "arranger", "message")


def japanese_is_possible(plan: DesignPlan) -> bool:
    """Whether a second block could hold all of the texts as they are."""
    return plan.design.cd_text != "none" and japanese_of(thinned(plan.text, plan.design.cd_text)) is not None


@dataclass(frozen=True, slots=True, kw_only=True)
class PackUse:
    """What the CD-Text takes of its packs: spans of (kind, packs, from and to in parts of the whole)."""

    use: TextUse
    spans: tuple[tuple[str, int, float, float], ...]
    over: int

    @property
    def said(self) -> str:
        """What to shorten where it is too long."""
        if self.over <= 0:
            return ""
        return (
            f"Shorten the {self.use.longest_kind} by about {self.over * 12:,} characters, or leave a kind of text out."
        )


def pack_use(plan: DesignPlan) -> PackUse:
    use = text_use(plan.coded)
    end = max(MOST_PACKS, use.packs)
    spans, at = [], 0
    for kind, packs in use.by_kind:
        spans.append((kind, packs, round(100 * at / end, 2), round(100 * packs / end, 2)))
        at += packs
    return PackUse(use=use, spans=tuple(spans), over=use.packs - MOST_PACKS)


@dataclass(frozen=True, slots=True, kw_only=True)
class Geometry:
    """Where the tracks lie on the disc: rings of (inner mm, outer mm, number, key), and where the medium ends."""

    rings: tuple[tuple[float, float, int, int], ...]
    edge_mm: float


def written_to_mm(layout: DiscLayout, share: float, shares: Mapping[str, tuple[float, float]]) -> float:
    """How far out the laser has come, at a share of the whole write; shares are those of its steps."""
    start, end = shares.get("writing", (0.0, 1.0))
    done = min(1.0, max(0.0, (share - start) / (end - start))) if end > start else 0.0
    return radius_mm(round(done * layout.total_sectors), pitch_um=layout.medium.pitch_um)


def geometry(layout: DiscLayout, keys: Sequence[int]) -> Geometry:
    """Rings from the inside out, as far as there is disc; keys are the tracks'."""
    radius = partial(radius_mm, pitch_um=layout.medium.pitch_um)
    rings = [
        (radius(t.start_sector), min(RIM_MM, radius(t.end_sector)), t.number, key)
        for t, key in zip(layout.tracks, keys, strict=True)
    ]
    return Geometry(
        rings=tuple(ring for ring in rings if ring[0] < RIM_MM), edge_mm=radius(layout.medium.capacity_sectors)
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedRow:
    """A speed of the recorder with the blank, how long the write takes there, and what speaks for or against it."""

    speed: int
    seconds: float
    advice: str
    chosen: bool


def write_rows(medium: Medium, sectors: int, speeds: Sequence[int], chosen: int) -> list[SpeedRow]:
    rows = []
    for speed in speeds:
        if speed == medium.careful_speed:
            advice = "careful: what common practice takes for copies that must play everywhere"
        elif speed > medium.safe_speed:
            advice = f"faster than this blank is safe for: writes fail more often above {medium.safe_speed}x"
        elif speed < medium.careful_speed:
            advice = "slower than is needed; some blanks are written worse so slowly"
        else:
            advice = "within what this blank is safe for"
        rows.append(
            SpeedRow(speed=speed, seconds=medium.write_seconds(sectors, speed), advice=advice, chosen=speed == chosen)
        )
    return rows


@dataclass(frozen=True, slots=True, kw_only=True)
class StepRow:
    """A step of the write: whether it is to come, under way or done, and how long a real recorder takes for it."""

    name: str
    state: str
    seconds: float


def stage_rows(disc: Disc, sectors: int, speed: int) -> list[StepRow]:
    """The steps of the last write, or of the one to come."""
    steps = steps_of(sectors, speed, trial=disc.trial)
    names = [step.name for step in steps]
    at = names.index(disc.stage["step"]) if disc.stage.get("step") in names else -1
    ended = disc.state == Disc.State.WRITTEN and not disc.busy
    states = [
        "done" if ended or n < at else "under way" if n == at and disc.busy else "to come" for n in range(len(names))
    ]
    return [
        StepRow(name=step.name, state=state, seconds=step.seconds) for step, state in zip(steps, states, strict=True)
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class WrittenRow:
    """A track of the write: what is done with it, in words; equal is its read-back, None before it."""

    number: int
    title: str
    sectors: int
    start_sector: int
    stage: str
    equal: bool | None


def written_rows(disc: Disc, planned: PlannedDisc) -> list[WrittenRow]:
    """The tracks of what is written or is to be."""
    equal = {v["number"]: v["equal"] for v in disc.verdicts} if is_as_written(disc, planned) and not disc.busy else {}
    plan = planned.plan
    if isinstance(plan, DesignPlan):
        return [
            WrittenRow(
                number=track.number, title=track.programme.title, sectors=track.sectors,
                start_sector=track.start_sector, stage=track_stage(disc, track.number) if disc.busy else "",
                equal=equal.get(track.number),
            )
            for track in plan.layout.tracks
        ]  # fmt: skip
    return [
        WrittenRow(
            number=row.number, title=row.file.title, sectors=row.sectors, start_sector=0, stage="",
            equal=equal.get(row.number),
        )
        for row in plan.rows if row.sectors
    ]  # fmt: skip


def remedies_of(disc: Disc, medium: Medium, speed: int) -> list[str]:
    """After a failure: what to try, in order."""
    if disc.busy or disc.state not in (Disc.State.FAILED, Disc.State.STOPPED) or not disc.error:
        return []
    found = []
    if "spoiled" in disc.error:
        found.append(
            f"Put in another {medium.label}." if not medium.rewritable else "Erase the disc, or put in another."
        )
    if "tray was opened" in disc.error:
        return [*found, "Write again, and leave the tray closed until the read-back is done."]
    if disc.state == Disc.State.FAILED:
        slower = [each for each in medium.speeds if each < speed]
        if "read back" in disc.error and slower:
            careful = medium.careful_speed if medium.careful_speed in slower else slower[-1]
            found.append(f"Write slower: {careful}x is careful.")
        if "read back" in disc.error:
            found += ["Take a blank of another batch.", "Try another recorder."]
        else:
            found.append("Fix what the reason names, then write again.")
    return found


def track_stage(disc: Disc, number: int) -> str:
    """What the recorder is doing with a track, in words; "" before it comes to it."""
    step, at = disc.stage.get("step", ""), disc.stage.get("track", 0)
    order = ("making ready", "lead-in", "writing", "lead-out", "closing", "reading back")
    if step not in order:
        return ""
    doing = {"making ready": ("made ready", "being made ready"), "writing": ("written", "being written"),
             "reading back": ("read back", "being read back")}  # fmt: skip
    said = ""
    for name, (done, now) in doing.items():
        if order.index(name) < order.index(step):
            said = done
        elif name == step:
            said = now if number == at else done if number < at else said
    return said
