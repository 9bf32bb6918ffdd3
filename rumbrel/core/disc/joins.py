"""Neighbours that are one recording: recognised by their tags and by how their samples meet.

Sound that goes on can be predicted across the join from either side as well as anywhere else in it (linear prediction,
order 32, fitted to the last or first 46 ms by least squares). Noise cannot be predicted at all: of it nothing is shown.
"""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.errors import DecodeError
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.level import as_float
from rumbrel.core.sound.stages import Cut

from .layout import Programme

__all__ = ["meet_without_a_break"]

_EDGE_SAMPLES = 2_048
_AT_EDGE_SAMPLES = 64
_ORDER = 32
_AT_JOIN_SAMPLES = 12
_FIRST, _LIKE_ANYWHERE = 4.0, 2.0
"""So many times the usual error of the prediction may be found at the join."""
_LEAST_GAIN = 8.0
"""Of the energy of the sound over that of the prediction's error: with less, anything might follow."""
_QUIET = 10 ** (-70 / 20)
"""An edge that is quieter than this on both sides is a pause, not a cut through sound (our own choice)."""


def meet_without_a_break(before: Programme, after: Programme) -> bool:
    """Whether it is shown that the sound goes on across the join: it is not quiet there, and in every channel each side
    predicts how the other begins. The tags must not speak against it: track numbers that are stated follow each other."""
    if before.number and after.number and after.number != before.number + 1:
        return False
    try:
        end, start = _edge(before, last=True), _edge(after, last=False)
    except DecodeError:
        return False
    if min(len(end), len(start)) < _EDGE_SAMPLES:
        return False
    if min(np.abs(end[-_AT_EDGE_SAMPLES:]).max(), np.abs(start[:_AT_EDGE_SAMPLES]).max()) < _QUIET:
        return False
    sounding = [channel for channel in range(end.shape[1]) if np.abs(end[:, channel]).max() >= _QUIET]
    silent = set(range(end.shape[1])) - set(sounding)
    if any(np.abs(start[:, channel]).max() >= _QUIET for channel in silent):
        return False
    return bool(sounding) and all(
        _predicts(end[:, channel], start[:, channel])
        and _predicts(start[::-1, channel], end[::-1, channel])
        for channel in sounding
    )  # fmt: skip


def _predicts(known: NDArray[np.float64], following: NDArray[np.float64]) -> bool:
    """Whether what follows is what known sound leads to, as far as that can be told."""
    rows = np.lib.stride_tricks.sliding_window_view(known, _ORDER + 1)
    past, wanted = rows[:, :-1], rows[:, -1]
    # A trace of the energy keeps the solution steady where the sound is one pure tone.
    steady = np.eye(_ORDER) * (1e-9 * float((past**2).sum()) / _ORDER + 1e-18)
    weights = np.linalg.solve(past.T @ past + steady, past.T @ wanted)
    usual = float(np.sqrt(np.mean((wanted - past @ weights) ** 2))) + 1 / 32768
    if float(np.sqrt(np.mean(wanted**2))) < np.sqrt(_LEAST_GAIN) * usual:
        return False
    around = np.concatenate([known[-_ORDER:], following[:_AT_JOIN_SAMPLES]])
    rows = np.lib.stride_tricks.sliding_window_view(around, _ORDER + 1)
    errors = rows[:, -1] - rows[:, :-1] @ weights
    # The first value tells of a jump; the next ones of a sound that is another.
    return abs(float(errors[0])) <= _FIRST * usual and float(np.sqrt(np.mean(errors**2))) <= _LIKE_ANYWHERE * usual


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
