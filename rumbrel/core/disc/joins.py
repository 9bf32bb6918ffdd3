"""Neighbours that are one recording: recognised by their tags and by how their samples meet."""

from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.errors import DecodeError
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.level import as_float
from rumbrel.core.sound.stages import Cut

from .layout import Programme

__all__ = ["joined", "meet_without_a_break"]

_EDGE_SAMPLES = 64
_QUIET = 10 ** (-70 / 20)
"""An edge that is quieter than this on both sides is a pause, not a cut through sound (our own choice)."""


def joined(programmes: list[Programme]) -> list[Programme]:
    """The same programmes, each marked that follows the one before without a break."""
    result: list[Programme] = []
    for programme in programmes:
        before = result[-1] if result else None
        follows = before is not None and _may_follow(before, programme) and meet_without_a_break(before, programme)
        result.append(replace(programme, runs_on=programme.runs_on or follows))
    return result


def _may_follow(before: Programme, after: Programme) -> bool:
    """Stretches of one file that touch, or tracks of one album in the same shape and gain."""
    if (before.sample_rate, before.channels, before.gain_db) != (after.sample_rate, after.channels, after.gain_db):
        return False
    if before.path == after.path:
        return before.start_sample + before.samples == (after.lead or after).start_sample
    return bool(before.album) and before.album == after.album


def meet_without_a_break(before: Programme, after: Programme) -> bool:
    """Whether the sound goes on across the join: it is not quiet there, and steps no further than it does around."""
    if before.path == after.path:
        return True
    try:
        end, start = _edge(before, last=True), _edge(after, last=False)
    except DecodeError:
        return False
    if min(len(end), len(start)) < _EDGE_SAMPLES or min(np.abs(end).max(), np.abs(start).max()) < _QUIET:
        return False
    # Where the next sample would be if the sound went straight on, against where it is.
    expected = 2 * end[-1] - end[-2]
    around = np.abs(np.diff(np.concatenate([end, start]), n=2, axis=0))
    usual = np.delete(around, [len(end) - 2, len(end) - 1], axis=0)
    step = np.abs(start[0] - expected)
    return bool((step <= 6 * np.sqrt(np.mean(usual**2, axis=0)) + 2 / 32768).all())


def _edge(programme: Programme, *, last: bool) -> NDArray[np.float64]:
    """The first or the last samples of a programme, shaped (samples, channels)."""
    end = programme.start_sample + programme.samples
    first = end - _EDGE_SAMPLES if last else programme.start_sample
    cut = Cut(max(programme.start_sample, first), end if last else first + _EDGE_SAMPLES)
    parts, count = [], 0
    with open_sound(Path(programme.path), programme.choice) as sound:
        for block in sound.blocks():
            part = cut.push(block)
            if len(part):
                parts.append(as_float(part))
                count += len(part)
            if count >= _EDGE_SAMPLES:
                break
    return np.concatenate(parts) if parts else np.zeros((0, programme.channels))
