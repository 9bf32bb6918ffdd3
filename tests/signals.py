"""Signals and files that tests make for themselves."""

from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from rumbrel.core.conversion import Outcome, carry_out
from rumbrel.core.forecast import ForecastOptions, WhenPresent, forecast_batch, gather_sources
from rumbrel.core.targets import find_target

RATE = 44_100


def music(samples: int, *, rate: int = RATE, channels: int = 2, seed: int = 1) -> NDArray[np.float64]:
    """Chords with noise, shaped (samples, channels), peaks below 0.7."""
    time = np.arange(samples) / rate
    random = np.random.default_rng(seed)
    tones = sum(0.1 * np.sin(2 * np.pi * pitch * (1 + seed / 50) * time) for pitch in (220, 331, 447))
    return np.stack([tones + 0.02 * random.standard_normal(samples) for _ in range(channels)], axis=1)


def write_sound(path: Path, samples: int = 30_011, *, subtype: str = "PCM_16", **more: int) -> Path:
    """A file in the format its ending names."""
    sound = music(samples, **more)
    path.parent.mkdir(parents=True, exist_ok=True)
    with soundfile.SoundFile(path, "w", more.get("rate", RATE), sound.shape[1], subtype=subtype) as file:
        for start in range(0, samples, 2048):
            file.write(sound[start : start + 2048])
    return path


def convert_one(source: Path, target: str, out: Path, when: str = "skip") -> Outcome:
    """Forecast and carry out a single source."""
    options = ForecastOptions(when_present=WhenPresent(when))
    plan = forecast_batch(gather_sources([source]), find_target(target), out, options=options)
    return carry_out(plan.steps[0])


def leftovers(folder: Path) -> list[str]:
    """Working files that should not be there."""
    return [str(path) for path in folder.rglob("*.part")] + [str(path) for path in folder.rglob(".rumbrel*")]
