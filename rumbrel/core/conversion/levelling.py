"""Level and trimming: a first pass that measures, then gains and cuts for the steps."""

import math
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.errors import DecodeError, EncodeError
from rumbrel.core.forecast.forecast import plan_sound
from rumbrel.core.forecast.steps import Action, Step, Warning, WarningCode
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.analysis import Ends, EndsFinder, State, StateMeter
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.level import Level, LevelMeter, as_float, joined_loudness
from rumbrel.core.sound.stages import Treatment, mix_matrix
from rumbrel.core.targets.fit import FitKind, fit_to, shape_for
from rumbrel.core.targets.model import LevelRule, Target
from rumbrel.core.workers import worker_context

__all__ = ["Measured", "gain_for", "levelled", "measure", "measure_all", "result_channels"]

_LEAST_CHANGE_DB = 0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """What the first pass found; block_powers are the mean powers of the 400 ms blocks."""

    level: Level
    block_powers: NDArray[np.float64]
    ends: Ends
    state: State
    samples: int


def measure(facts: Facts, channels: int) -> Measured | None:
    """Decode a source once and measure it as its result will be heard, in so many channels.

    A mix changes the loudness: two equal channels are 3 dB louder than one. None when it does not decode.
    """
    try:
        mix = None if channels == facts.channels else mix_matrix(facts.channels, channels, facts.speakers).T
        with open_sound(Path(facts.path), facts.choice()) as sound:
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


def _measured(request: tuple[Facts, int]) -> Measured | None:
    return measure(*request)


def measure_all(
    requests: Sequence[tuple[Facts, int]],
    *,
    jobs: int,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> dict[str, Measured]:
    """Measure sources on all cores, each in the channels its result will have. Returns what was found by path."""
    unique = list({facts.path: (facts, channels) for facts, channels in requests}.values())
    unique.sort(key=lambda request: -request[0].duration_seconds)
    found: dict[str, Measured] = {}
    with ProcessPoolExecutor(max(1, min(jobs, len(unique))), mp_context=worker_context("scipy.signal")) as pool:
        try:
            results = pool.map(_measured, unique)
            for done, ((facts, _), measured) in enumerate(zip(unique, results, strict=True), 1):
                if measured is not None:
                    found[facts.path] = measured
                progress(done, len(unique))
        except KeyboardInterrupt:
            pool.shutdown(wait=False, cancel_futures=True)
            raise
    return found


def levelled(
    steps: Sequence[Step],
    measured: dict[str, Measured],
    *,
    rule: LevelRule,
    members: Sequence[Facts],
    trim: bool = False,
) -> tuple[Step, ...]:
    """Steps with the gain and the cuts that the rule and the measurements ask for.

    members are all tracks that count for their albums, also those that need no work.
    """
    albums = _albums(members, measured) if rule.mode in ("album", "tags") else {}
    return tuple(_levelled(step, measured.get(step.source.path), albums, rule, trim) for step in steps)


def _album_key(facts: Facts) -> str:
    """Tracks of one album lie in one folder and name one album, or none."""
    return f"{Path(facts.path).parent}\0{facts.tags.first('album')}"


@dataclass(frozen=True, slots=True, kw_only=True)
class _Album:
    loudness_lufs: float
    true_peak_dbtp: float


def result_channels(facts: Facts, target: Target) -> int:
    """How many channels a track has for a target, whether it is converted or not."""
    return facts.channels if fit_to(facts, target).kind is not FitKind.CONVERT else shape_for(facts, target).channels


def _albums(members: Sequence[Facts], measured: dict[str, Measured]) -> dict[str, _Album]:
    by_album: dict[str, dict[str, Measured]] = {}
    for facts in members:
        found = measured.get(facts.path)
        if found is not None:
            by_album.setdefault(_album_key(facts), {})[facts.path] = found
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
        step = replace(step, extra_fields=_gain_fields(found, album, rule))
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
    treatment = Treatment(gain_db=gain_db, start_sample=start, end_sample=end)
    planned = plan_sound(step.source, step.target, treatment, changes_sound=True)
    warnings = list(planned.warnings)
    warnings += [w for w in step.warnings if w.code not in {each.code for each in planned.warnings}]
    if limited_db >= _LEAST_CHANGE_DB:
        text = (
            f"Raised by {gain_db:+.1f} dB instead of {gain_db + limited_db:+.1f} dB, "
            f"so that no peak passes {rule.ceiling_dbtp:g} dBTP."
        )
        warnings.append(Warning(code=WarningCode.LEVEL, text=text))
    if found.level.true_peak_dbtp + gain_db > 0 and planned.shape and planned.shape.depth_bits:
        text = f"Peaks reach {found.level.true_peak_dbtp + gain_db:+.1f} dBTP and may be limited."
        warnings.append(Warning(code=WarningCode.CLIPPING, text=text))
    return replace(step, treatment=planned.treatment, after=planned.after, warnings=tuple(warnings))


def _gain(loudness_lufs: float, true_peak_dbtp: float, rule: LevelRule) -> tuple[float, float]:
    """(gain in dB, dB that the ceiling took from it). Silence is left alone."""
    if math.isinf(loudness_lufs):
        return 0.0, 0.0
    wanted = rule.loudness_lufs - loudness_lufs
    allowed = min(wanted, rule.ceiling_dbtp - true_peak_dbtp)
    return allowed, wanted - allowed


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
