"""What comparing a lossy result with its source adds to the check of that result."""

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from statistics import median
from unittest import mock

import numpy as np
import soundfile

from rumbrel.core.conversion import carry_out
from rumbrel.core.conversion.check import check_result
from rumbrel.core.conversion.lane import Passage
from rumbrel.core.errors import Cancelled
from rumbrel.core.forecast import Step, forecast_batch, gather_sources
from rumbrel.core.targets import find_target

_MINUTES = 2
_TURNS = 11
_TARGETS = ("car-mp3", "small-player", "course", "pocket-aac", "open-opus", "open-vorbis", "table-radio-wma")


def measure_proof(folder: Path) -> None:
    """Quiet and loud: where the source is loud, the peak of its result is looked for as well."""
    for word, level in (("quiet", 0.5), ("loud", 1.6)):
        source = _chords(folder / f"{word}.wav", level)
        for slug in _TARGETS:
            plan = forecast_batch(gather_sources([source]), find_target(slug), folder / slug)

            def timed(working: Path, step: Step, passage: Passage, tell: Callable[[float], None]) -> None:
                bare = replace(passage, sketch=None)
                pairs = [[_seconds(working, step, each) for each in (passage, bare)] for _ in range(_TURNS)]  # noqa: B023
                share = median(proved - plain for proved, plain in pairs) / median(proved for proved, _ in pairs)
                print(f"Likeness in the check, {slug}, {word}: {share:.1%} (at most a tenth)", flush=True)  # noqa: B023
                raise Cancelled("measured")

            with mock.patch("rumbrel.core.conversion.carry_out.check_result", timed):
                try:
                    raise SystemExit(carry_out(plan.steps[0]).error)
                except Cancelled:
                    continue


def _seconds(working: Path, step: Step, passage: Passage) -> float:
    begun = time.process_time()
    check_result(working, step, passage, lambda share: None)
    return time.process_time() - begun


def _chords(path: Path, level: float) -> Path:
    at = np.arange(44_100 * 60 * _MINUTES) / 44_100
    noise = 0.05 * np.random.default_rng(1).standard_normal((len(at), 2))
    tones = [np.sin(2 * np.pi * hertz * at) for hertz in (220, 330, 3300)]
    sound = np.stack([0.3 * tones[0] + 0.2 * tones[2] * np.sin(2 * np.pi * at) ** 8, 0.3 * tones[1]], axis=1)
    soundfile.write(path, np.clip((sound + noise) * level, -1, 1), 44_100, subtype="PCM_16")
    return path
