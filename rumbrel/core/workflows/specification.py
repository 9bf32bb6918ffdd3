"""Measure files for a specification: each is decoded once, on all cores."""

import io
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, UnidentifiedImageError

from rumbrel.core.crew import Death, Tell
from rumbrel.core.errors import DecodeError, TagError
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.sound.level import LevelMeter, as_float
from rumbrel.core.sound.second_reader import open_twice_read
from rumbrel.core.sound.shape import Block
from rumbrel.core.tags import read_tags
from rumbrel.core.tags.rules import PICTURE_FORMATS
from rumbrel.core.targets import Target
from rumbrel.core.targets.specification import Measured, SpecLine, specification_lines

from .crewed import carried_out

__all__ = ["SpecTask", "Specified", "hold_against"]


@dataclass(frozen=True, slots=True, kw_only=True)
class SpecTask:
    """A file, the target that is its specification, and about how long its sound is."""

    id: int
    path: Path
    target: Target
    seconds: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Specified:
    """The lines of the specification for the file of a task; error says why there are none."""

    id: int
    lines: tuple[SpecLine, ...] = ()
    error: str = ""


class _BelowCorner:
    """The root mean square of what lies below a frequency, as a low-pass of eighth order lets it through."""

    def __init__(self, sample_rate: int, channels: int, frequency_hz: float) -> None:
        # Importing this takes longer than many a command, so it waits until it is needed.
        from scipy import signal

        self._filter = signal.sosfilt
        self._sections = signal.butter(8, frequency_hz, "lowpass", fs=sample_rate, output="sos")
        self._state = np.zeros((self._sections.shape[0], 2, channels))
        self._sum, self._count = 0.0, 0

    def push(self, block: Block) -> None:
        low, self._state = self._filter(self._sections, as_float(block), axis=0, zi=self._state)
        self._sum += float(np.sum(np.square(low)))
        self._count += low.size

    def dbfs(self) -> float:
        power = self._sum / self._count if self._count else 0.0
        return 10 * math.log10(power) if power > 0 else -math.inf


def _measured(facts: Facts, target: Target, tell: Tell) -> Measured:
    corner = target.make.highpass_hz
    with open_twice_read(Path(facts.path), facts.choice(), facts.samples) as sound:
        meter, samples = LevelMeter(sound.shape), 0
        low = _BelowCorner(sound.shape.sample_rate, sound.shape.channels, corner / 2) if corner else None
        for block in sound.blocks():
            meter.push(block)
            if low is not None:
                low.push(block)
            samples += len(block)
            tell(min(1.0, samples / max(1, facts.samples)))
    return Measured(
        facts=facts, decoded_samples=samples, level=meter.level(), below_corner_dbfs=low.dbfs() if low else None,
        id3_version=_id3_version(Path(facts.path)), covers=_covers(facts),
    )  # fmt: skip


def _id3_version(path: Path) -> int:
    """The version in the tag's own header (ID3v2 structure, 3.1): 3 for 2.3, 0 where the file begins without one."""
    with path.open("rb") as file:
        head = file.read(4)
    return head[3] if head[:3] == b"ID3" and len(head) == 4 else 0


def _covers(facts: Facts) -> tuple[tuple[int, int, int], ...]:
    if not facts.tags.covers:
        return ()
    try:
        covers = read_tags(Path(facts.path), container=facts.container, codec=facts.codec).covers
    except TagError:
        return tuple((cover.kind, 0, cover.size_bytes) for cover in facts.tags.covers)
    return tuple((cover.kind, _edge(cover.data), len(cover.data)) for cover in covers)


def _edge(data: bytes) -> int:
    try:
        with Image.open(io.BytesIO(data), formats=PICTURE_FORMATS) as picture:
            return max(picture.size)
    except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError):
        return 0


def _hold(task: SpecTask, tell: Tell) -> Specified:
    facts = inspect_file(task.path)
    if not facts.codec:
        return Specified(id=task.id, error=facts.faults[0].text if facts.faults else "There is no sound in this file.")
    try:
        return Specified(id=task.id, lines=specification_lines(_measured(facts, task.target, tell), task.target))
    except (DecodeError, OSError) as error:
        return Specified(id=task.id, error=str(error))


def _lost(task: SpecTask, death: Death) -> Specified:
    return Specified(id=task.id, error=death.text(task.path.name))


def hold_against(tasks: Sequence[SpecTask], *, jobs: int) -> Iterator[Specified | Progress]:
    """Yield each file's lines as they come, with Progress in seconds of sound. Closing the iterator stops the work."""
    return carried_out(
        _hold, sorted(tasks, key=lambda task: -task.seconds), jobs=jobs, weigh=lambda task: max(0.1, task.seconds),
        unit=Unit.SECONDS, step="measuring", lost=_lost,
    )  # fmt: skip
