"""How far from its source the honest results of an encoder lie: a table measured over real and made sound.

Each row is one way of coding, with the largest figure that any of its results had. `./run measure limits` makes it anew
(docs/decisions/likeness.md says of what); it is kept in limits.npz beside this file.
"""

import json
import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

__all__ = ["TABLE", "UNKNOWN", "Coding", "Limits", "limits_for", "read_limits", "write_limits"]

TABLE = Path(__file__).with_name("limits.npz")
UNKNOWN = -64.0
"""No result had such a band, or none above this."""
_HIGHEST = 63.0
_STEP_DB = 0.5
_SAME_RATE = 0.12
"""In octaves: as near as 44.1 and 48 kHz are."""
_OTHER_RATE_DB = 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Coding:
    """A way of coding: amount is the bitrate in units of 1000 bits/s, or the quality in hundredths where that leads,
    or 0 where there is no choice."""

    encoding: str
    sample_rate: int
    channels: int
    mode: str = ""
    amount: float = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """bands is shaped (measures, spans, signals: channels, their difference; classes, bands), in dB; figures as
    measures.FIGURES. gain is what the encoder does to the level of every sound, as a factor; level_bands are those
    whose energy it keeps."""

    coding: Coding
    gain: float
    level_bands: NDArray[np.bool_]
    bands: NDArray[np.float64]
    figures: NDArray[np.float64]


def write_limits(rows: Sequence[Limits], path: Path = TABLE) -> None:
    """Rounded up to half a dB. Bands beyond a row's are unknown."""
    most = max(row.bands.shape[-1] for row in rows)
    bands = np.full((len(rows), *rows[0].bands.shape[:-1], most), UNKNOWN)
    level_bands = np.zeros((len(rows), most), dtype=bool)
    for number, row in enumerate(rows):
        bands[number, ..., : row.bands.shape[-1]] = row.bands
        level_bands[number, : len(row.level_bands)] = row.level_bands
    steps = np.ceil(np.clip(bands, UNKNOWN, _HIGHEST) / _STEP_DB).astype(np.int8)
    np.savez_compressed(
        path, bands=steps, level_bands=level_bands, gains=np.array([row.gain for row in rows], np.float32),
        figures=np.array([row.figures for row in rows], np.float32),
        codings=np.array(json.dumps([asdict(row.coding) for row in rows])),
    )  # fmt: skip


@lru_cache(maxsize=2)
def read_limits(path: Path = TABLE) -> tuple[Limits, ...]:
    """The rows of the table. Raises OSError."""
    with np.load(path) as kept:
        codings = [Coding(**record) for record in json.loads(str(kept["codings"]))]
        bands, figures = kept["bands"].astype(np.float64) * _STEP_DB, kept["figures"].astype(np.float64)
        return tuple(
            Limits(coding=coding, gain=float(gain), level_bands=level, bands=rows, figures=single)
            for coding, gain, level, rows, single in zip(
                codings, kept["gains"], kept["level_bands"], bands, figures, strict=True
            )
        )


@lru_cache(maxsize=256)
def limits_for(coding: Coding) -> Limits | None:
    """The limits of the nearest way of coding that was measured and is no better than the one asked for; where its rate
    is another, they are wider. None for an encoder that was not measured."""
    rows = [row for row in read_limits() if row.coding.encoding == coding.encoding]
    channels = 1 if coding.channels == 1 else 2
    amount = coding.amount if coding.channels <= 2 else coding.amount * 2 / coding.channels
    rows = [row for row in rows if row.coding.channels == channels] or rows
    rows = [row for row in rows if row.coding.mode == coding.mode] or rows
    if not rows:
        return None
    distance = {row.coding.sample_rate: _octaves(row.coding.sample_rate, coding.sample_rate) for row in rows}
    nearest = min(distance.values())
    rows = [row for row in rows if distance[row.coding.sample_rate] == nearest]
    below = [row for row in rows if row.coding.amount <= amount]
    found = max(below, key=lambda row: row.coding.amount) if below else min(rows, key=lambda row: row.coding.amount)
    # A row of fewer bits leaves out what this one keeps: to be as loud as the source is no fault.
    found = replace(found, bands=_at_least_as_loud(found.bands))
    wider = _OTHER_RATE_DB if nearest > _SAME_RATE else _OTHER_RATE_DB / 3 if nearest else 0.0
    if not wider:
        return found
    return replace(
        found, bands=np.where(found.bands > UNKNOWN, found.bands + wider, UNKNOWN), figures=found.figures + wider / 3
    )


def _at_least_as_loud(bands: NDArray[np.float64]) -> NDArray[np.float64]:
    raised = bands.copy()
    raised[_LOUDER] = np.where(bands[_LOUDER] > UNKNOWN, np.maximum(bands[_LOUDER], 0.0), UNKNOWN)
    return raised


_LOUDER = 1
"""The measure of that name (measures.BAND_MEASURES)."""


def _octaves(one: int, other: int) -> float:
    return abs(math.log2(one / other))
