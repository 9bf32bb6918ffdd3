"""The sounds of a disc: what is known of each, the programme that it becomes, and the levels that it gets."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.conversion.levelling import Measured, gain_for, measure_all
from rumbrel.core.disc.design import DiscDesign
from rumbrel.core.disc.layout import Programme
from rumbrel.core.disc.red_book import CHANNELS, SAMPLE_RATE
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Report, no_report
from rumbrel.core.sound.analysis import ChannelState
from rumbrel.core.targets import LevelRule

__all__ = ["PRE_EMPHASIS", "Sound", "levelled_programmes", "measured_sounds", "programme_of"]


PRE_EMPHASIS = "50/15 µs"
"""The tag of a file whose sound was taken from a disc with its pre-emphasis, by the two times of its curve (IEC 60908).
Laid on a disc, such a file gets its flag again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Sound:
    """What is known of a sound: its facts, the title it goes by, what measuring found (None before), and why it cannot
    be used now, where something beside its facts says so. performer is that of a list, for a file without one; listed_as
    what the list named where another file was taken for it."""

    facts: Facts | None
    title: str
    performer: str = ""
    listed_as: str = ""
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
        made = programme_of(self.facts, performer=self.performer)
        return replace(made, title=self.title, listed_as=self.listed_as)


def programme_of(facts: Facts, *, title: str = "", performer: str = "") -> Programme:
    """A whole file as a track. Raises DiscError when not all of its sound can be used."""
    if not facts.usable or not facts.ok:
        said = facts.faults[0].text if facts.faults else "there is no sound in it."
        raise DiscError(f"{facts.path} cannot be put on a disc: {said}")
    first = facts.tags.first
    return Programme(
        path=facts.path,
        choice=facts.choice(),
        title=first("title") or title or Path(facts.path).stem,
        performer=first("artist") or performer,
        samples=facts.samples,
        sample_rate=facts.sample_rate,
        channels=facts.channels,
        lossless=facts.lossless,
        songwriter=first("songwriter"),
        composer=first("composer"),
        arranger=first("arranger"),
        album=first("album"),
        isrc=first("isrc").replace("-", ""),
        pre_emphasis=bool(first("pre_emphasis")),
        number=int(number) if (number := first("track").partition("/")[0].strip()).isdecimal() else 0,
    )


def measured_sounds(
    design: DiscDesign, sounds: Mapping[int, Sound], *, jobs: int, report: Report = no_report
) -> dict[int, Sound]:
    """The sounds of a design's tracks with what measuring finds of each, as it is heard from a disc; one that does not
    decode stays unmeasured."""
    ids = {track.source_id for track in design.kept}
    known = {key: sounds[key].facts for key in ids if not sounds[key].reason}
    usable = {key: facts for key, facts in known.items() if facts is not None and facts.usable}
    found = measure_all([(facts, CHANNELS) for facts in usable.values()], jobs=jobs, report=report)
    return {key: replace(sounds[key], measured=found.get((facts.key, CHANNELS))) for key, facts in usable.items()}


def levelled_programmes(
    programmes: Sequence[Programme], measured: Sequence[Measured | None], rule: LevelRule
) -> list[Programme]:
    """With gains, and what measuring found of their state. Tracks that run on have one gain: a step in the level would be
    heard in the join."""
    runs: list[list[int]] = []
    for number, programme in enumerate(programmes):
        if programme.runs_on and runs:
            runs[-1].append(number)
        else:
            runs.append([number])
    every = [found for found in measured if found is not None]
    levelled = list(programmes)
    for run in runs:
        parts = [found for number in run if (found := measured[number]) is not None]
        if not parts:
            continue
        joint = rule.mode == "track" and len(run) > 1
        gain_db = gain_for(parts[0], parts if joint else every, replace(rule, mode="album") if joint else rule)
        for number in run:
            found = measured[number]
            if found is not None:
                levelled[number] = _with_gain(programmes[number], found, gain_db)
    return levelled


def _with_gain(programme: Programme, found: Measured, gain_db: float) -> Programme:
    """A programme as it goes onto the disc with a gain, and what measuring found of it. The sound in its gap is turned
    with it."""
    lead = programme.lead and replace(programme.lead, gain_db=gain_db)
    level = found.level
    # Of another rate, what lies between its samples are samples on the disc.
    peak_db = level.sample_peak_dbfs if programme.sample_rate == SAMPLE_RATE else level.true_peak_dbtp
    over_db = max(0.0, peak_db + gain_db) if math.isfinite(peak_db) else 0.0
    return replace(programme, gain_db=gain_db, lead=lead, state=_state_of(found), over_db=over_db)


def _state_of(found: Measured) -> str:
    """What measuring found of a file, whatever its gain: "", "silent", "mono" or "clipped"."""
    if found.state.channels is ChannelState.SILENT:
        return "silent"
    if found.state.channels is ChannelState.IDENTICAL:
        return "mono"
    return "clipped" if found.state.clipped_runs else ""
