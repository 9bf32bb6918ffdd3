"""Level and trimming: a first pass that measures, then gains and cuts for the steps."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.crew import Crew, Death, Tell
from rumbrel.core.errors import DecodeError, EncodeError
from rumbrel.core.figures import figure
from rumbrel.core.forecast.planning import treated
from rumbrel.core.forecast.steps import Action, Step, Warning, WarningCode
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.progress import Progress, Report, Unit, no_report
from rumbrel.core.sound.analysis import Ends, EndsFinder, State, StateMeter
from rumbrel.core.sound.level import Level, LevelMeter, as_float, joined_loudness
from rumbrel.core.sound.second_reader import open_twice_read
from rumbrel.core.sound.stages import Treatment, mix_matrix
from rumbrel.core.targets.model import LevelRule

__all__ = ["Measured", "gain_for", "levelled", "measure", "measure_all"]

_LEAST_CHANGE_DB = 0.05
"""Half of the tenth to which levels are stated (EBU Tech 3341): less is no change."""
_MOST_LOWERINGS = 2
"""How often a track is coded anew, lower, because coding lifted its peaks above the ceiling."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """What the first pass found; block_powers are the mean powers of the 400 ms blocks."""

    level: Level
    block_powers: NDArray[np.float64]
    ends: Ends
    state: State
    samples: int


def measure(facts: Facts, channels: int, *, tell: Callable[[float], None] = lambda share: None) -> Measured | None:
    """Decode a source once and measure it as its result will be heard, in so many channels.

    A mix changes the loudness: two equal channels are 3 dB louder than one. None when it does not decode.
    """
    try:
        mix = None if channels == facts.channels else mix_matrix(facts.channels, channels, facts.speakers).T
        with open_twice_read(Path(facts.path), facts.choice(), facts.samples) as sound:
            meter, ends, state, samples = (
                LevelMeter(sound.shape if mix is None else replace(sound.shape, channels=channels, speakers=())),
                EndsFinder(),
                StateMeter(sound.shape),
                0,
            )
            for block in sound.blocks():
                meter.push(block if mix is None else as_float(block) @ mix)
                ends.push(block)
                state.push(block)
                samples += len(block)
                tell(min(1.0, samples / max(1, facts.samples)))
    except (DecodeError, EncodeError):
        # The conversion itself says what is wrong with it.
        return None
    return Measured(
        level=meter.level(), block_powers=meter.block_powers(), ends=ends.ends(), state=state.state(), samples=samples
    )


def gain_for(found: Measured, programme: Sequence[Measured], rule: LevelRule) -> float:
    """Gain in dB of one track among those of its programme, which counts as one album."""
    if rule.mode == "track":
        return _gain(found.level.integrated_lufs, found.level.true_peak_dbtp, rule)[0]
    if rule.mode == "album":
        loudness = joined_loudness([part.block_powers for part in programme])
        return _gain(loudness, max(part.level.true_peak_dbtp for part in programme), rule)[0]
    return 0.0


Key = tuple[str, int]
"""A file's path and the channels it was measured in."""


def _measured(request: tuple[Facts, int], tell: Tell) -> Measured | None:
    return measure(*request, tell=tell)


def _lost(request: tuple[Facts, int], death: Death) -> Measured | None:
    """A file whose reading ends its process is left unmeasured; its conversion says what is wrong."""
    return None


def measure_all(
    requests: Sequence[tuple[Facts, int]],
    *,
    jobs: int,
    report: Report = no_report,
    holds: Callable[[], bool] = lambda: False,
) -> dict[Key, Measured]:
    """Measure sources on all cores, each once for every number of channels that its results have; none is begun
    while holds says so."""
    unique = list({(facts.key, channels): (facts, channels) for facts, channels in requests}.values())
    unique.sort(key=lambda request: -request[0].duration_seconds)
    weights = [facts.duration_seconds for facts, _ in unique]
    found: dict[Key, Measured] = {}
    finished = 0
    with Crew(_measured, unique, jobs=jobs, lost=_lost, holds=holds) as crew:
        for event in crew.results():
            if event is not None:
                facts, channels = unique[event.number]
                finished += 1
                if event.result is not None:
                    found[facts.key, channels] = event.result
            done = sum(share * weight for share, weight in zip(crew.shares(), weights, strict=True))
            report(
                Progress(
                    done=done, total=sum(weights), unit=Unit.SECONDS, step="measuring", finished=finished,
                    items=len(unique),
                )
            )  # fmt: skip
    return found


def levelled(
    steps: Sequence[Step],
    measured: Mapping[Key, Measured],
    *,
    rule: LevelRule,
    members: Sequence[Step],
    trim: bool = False,
) -> tuple[Step, ...]:
    """Steps with the gain and the cuts that the rule and the measurements ask for.

    members are the steps of all tracks that count for their albums, also those that need no work.
    """
    albums = _albums(members, measured) if rule.mode in ("album", "tags") else {}
    return tuple(
        _levelled(step, measured.get((step.source.key, step.heard_channels)), albums, rule, trim) for step in steps
    )


def _album_key(facts: Facts) -> str:
    """Tracks of one album lie in one folder and name one album, or none."""
    return f"{Path(facts.path).parent}\0{facts.tags.first('album')}"


@dataclass(frozen=True, slots=True, kw_only=True)
class _Album:
    loudness_lufs: float
    true_peak_dbtp: float


def _albums(members: Sequence[Step], measured: Mapping[Key, Measured]) -> dict[str, _Album]:
    by_album: dict[str, dict[str, Measured]] = {}
    for step in members:
        found = measured.get((step.source.key, step.heard_channels))
        if found is not None:
            by_album.setdefault(_album_key(step.source), {})[step.source.key] = found
    return {
        key: _Album(
            loudness_lufs=joined_loudness([part.block_powers for part in parts.values()]),
            true_peak_dbtp=max(part.level.true_peak_dbtp for part in parts.values()),
        )
        for key, parts in by_album.items()
    }


def _levelled(step: Step, found: Measured | None, albums: dict[str, _Album], rule: LevelRule, trim: bool) -> Step:
    if found is None or not step.writes:
        return step
    album = albums.get(_album_key(step.source))
    if rule.mode == "tags":
        step = replace(step, extra_fields=(*step.extra_fields, *_gain_fields(found, album, rule)))
    gain_db, limited_db = 0.0, 0.0
    if rule.mode == "track":
        gain_db, limited_db = _gain(found.level.integrated_lufs, found.level.true_peak_dbtp, rule)
    elif rule.mode == "album" and album is not None:
        gain_db, limited_db = _gain(album.loudness_lufs, album.true_peak_dbtp, rule)
    if abs(gain_db) < _LEAST_CHANGE_DB:
        gain_db = 0.0
    start, end = _cuts(found) if trim else (0, None)
    if step.action is not Action.CONVERT:
        # Its samples stay as they are; only tags can say what its level is.
        return step
    sets_level = rule.mode in ("track", "album")
    treatment = Treatment(
        gain_db=gain_db, start_sample=start, end_sample=end, ceiling_dbtp=rule.ceiling_dbtp if sets_level else None,
        lowerings=_MOST_LOWERINGS if rule.mode == "track" or rule.limits else 0,
        limit_dbtp=rule.ceiling_dbtp if sets_level and rule.limits and limited_db > 0 else None,
    )  # fmt: skip
    planned = treated(step, treatment)
    # What was known of its peaks beforehand is measured now.
    warnings = [each for each in planned.warnings if not (sets_level and each.code is WarningCode.CLIPPING)]
    if sets_level and math.isinf(found.level.integrated_lufs) and not math.isinf(found.level.sample_peak_dbfs):
        text = "Too short or too quiet to have a loudness; its level stays as it is."
        warnings.append(Warning(code=WarningCode.LEVEL, text=text))
    if treatment.limit_dbtp is not None:
        text = (
            f"Raised by {figure(gain_db, '+.1f')} dB for {figure(rule.loudness_lufs, 'g')} LUFS; peaks are limited by up to {limited_db:.1f} dB, "
            f"so that none passes {figure(rule.ceiling_dbtp, 'g')} dBTP, which takes a little of the loudness."
        )
        warnings.append(Warning(code=WarningCode.LEVEL, text=text))
    elif limited_db >= _LEAST_CHANGE_DB:
        text = (
            f"Raised by {figure(gain_db, '+.1f')} dB instead of {figure(gain_db + limited_db, '+.1f')} dB, "
            f"so that no peak passes {figure(rule.ceiling_dbtp, 'g')} dBTP: {figure(rule.loudness_lufs, 'g')} LUFS is not reached."
        )
        warnings.append(Warning(code=WarningCode.LEVEL, text=text))
    if (
        treatment.limit_dbtp is None
        and found.level.true_peak_dbtp + gain_db > 0
        and planned.shape
        and planned.shape.depth_bits
    ):
        text = f"Peaks reach {figure(found.level.true_peak_dbtp + gain_db, '+.1f')} dBTP and may be limited."
        warnings.append(Warning(code=WarningCode.CLIPPING, text=text))
    return replace(planned, warnings=tuple(warnings))


def _gain(loudness_lufs: float, true_peak_dbtp: float, rule: LevelRule) -> tuple[float, float]:
    """(gain in dB, dB that the ceiling takes from it or the limiter from its peaks). Silence is left alone."""
    if math.isinf(loudness_lufs):
        return 0.0, 0.0
    wanted = rule.loudness_lufs - loudness_lufs
    allowed = min(wanted, rule.ceiling_dbtp - true_peak_dbtp)
    return wanted if rule.limits else allowed, wanted - allowed


def _cuts(found: Measured) -> tuple[int, int | None]:
    """From the first sound to the last; a silent track is left whole."""
    if found.ends.leading_samples >= found.samples:
        return 0, None
    end = found.samples - found.ends.trailing_samples
    return found.ends.leading_samples, end if end < found.samples else None


def _gain_fields(found: Measured, album: _Album | None, rule: LevelRule) -> tuple[tuple[str, str], ...]:
    """Gain and peak as tags of the customary kind: dB to the wished loudness, peak with full scale at 1."""
    fields: list[tuple[str, str]] = []
    parts = [("track", found.level.integrated_lufs, found.level.true_peak_dbtp)]
    if album is not None:
        parts.append(("album", album.loudness_lufs, album.true_peak_dbtp))
    for name, loudness, peak in parts:
        if not math.isinf(loudness):
            fields.append((f"{name}_gain", f"{rule.loudness_lufs - loudness:.2f} dB"))
            fields.append((f"{name}_peak", f"{10 ** (peak / 20):.6f}"))
    return tuple(fields)
