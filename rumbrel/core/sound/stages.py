"""The stages a stream passes between decoder and encoder, each pushed block by block."""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
import soxr
from numpy.typing import NDArray

from rumbrel.core.errors import EncodeError
from rumbrel.core.figures import figure

from .dither import FLAT
from .limiter import Limiter
from .quantise import Quantise
from .shape import CHANNEL_ORDERS, Block, SoundShape, tamed

__all__ = ["Chain", "Cut", "Treatment", "build_chain", "mix_matrix", "mix_said"]

Float = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Treatment:
    """What is done to the sound on purpose, beyond meeting the result's shape.

    start_sample and end_sample cut the source, in its own samples; None leaves its end. ceiling_dbtp is what no
    peak of the result may pass, also once it is coded; lowerings is how often the gain may be lowered for that.
    limit_dbtp is where a limiter holds the peaks, None where there is none. deemphasis takes a disc's pre-emphasis out. dither is
    one of DITHERS, for where bits are lost: it is nothing that is done for itself.
    """

    highpass_hz: float | None = None
    gain_db: float = 0.0
    start_sample: int = 0
    end_sample: int | None = None
    ceiling_dbtp: float | None = None
    lowerings: int = 0
    limit_dbtp: float | None = None
    deemphasis: bool = False
    dither: str = FLAT

    @property
    def changes_samples(self) -> bool:
        changed = self.highpass_hz is not None or self.gain_db != 0.0 or self.limit_dbtp is not None
        return changed or self.deemphasis


class Cut:
    """Lets a stretch of a stream through, in sampling instants from its beginning."""

    def __init__(self, start_sample: int, end_sample: int | None) -> None:
        self._start = start_sample
        self._end = end_sample
        self._at = 0

    def push(self, block: Block) -> Block:
        first = max(0, self._start - self._at)
        last = len(block) if self._end is None else max(first, min(len(block), self._end - self._at))
        self._at += len(block)
        return block[first:last]


class Stage(Protocol):
    """Takes a block, returns none or some; `last` asks for what is still held back."""

    def push(self, block: Block, *, last: bool = False) -> Block: ...


class _Widen:
    """16 to 32 bit by a shift: exact."""

    def push(self, block: Block, *, last: bool = False) -> Block:
        return block.astype(np.int32) << 16


class _Duplicate:
    """Mono to two equal channels, with no arithmetic on the values."""

    def push(self, block: Block, *, last: bool = False) -> Block:
        return np.repeat(block, 2, axis=1)


class _ToFloat:
    """Integers to float64 with full scale at 1.0: exact up to 32 bit. What is no number becomes silence, and is counted."""

    def __init__(self) -> None:
        self.not_numbers = 0

    def push(self, block: Block, *, last: bool = False) -> Block:
        if block.dtype == np.int16:
            return block.astype(np.float64) / 32768.0
        if block.dtype == np.int32:
            return block.astype(np.float64) / 2147483648.0
        kept, wrong = tamed(block)
        self.not_numbers += wrong
        return kept.astype(np.float64)


class _Mix:
    def __init__(self, matrix: Float) -> None:
        self._matrix = matrix

    def push(self, block: Block, *, last: bool = False) -> Block:
        return np.asarray(block @ self._matrix.T)


class _HighPass:
    """Second order Butterworth, state kept between blocks."""

    def __init__(self, sample_rate: int, channels: int, corner_hz: float) -> None:
        # Importing this takes longer than most conversions; only a high-pass needs it.
        from scipy import signal

        self._filter = signal.sosfilt
        self._sections = signal.butter(2, corner_hz, "highpass", fs=sample_rate, output="sos")
        self._state = np.zeros((self._sections.shape[0], 2, channels))

    def push(self, block: Block, *, last: bool = False) -> Block:
        if not len(block):
            return block
        filtered, self._state = self._filter(self._sections, block, axis=0, zi=self._state)
        return np.asarray(filtered)


_EMPHASIS_RATE = 44_100
_DEEMPHASIS = ((0.4603528487971037, 0.0952899596569655, -0.042153710451508175),
               (1.0, -0.22844745088472196, -0.25806345111271695))  # fmt: skip
"""Numerator and denominator at 44.1 kHz of what undoes 50/15 us (IEC 60908, from memory): fitted by us to the analogue
curve, within 0.006 dB of it up to 20 kHz."""


class _Deemphasis:
    """The other way round of the pre-emphasis of a disc, state kept between blocks."""

    def __init__(self, sample_rate: int, channels: int) -> None:
        from scipy import signal

        if sample_rate != _EMPHASIS_RATE:
            raise EncodeError(f"Pre-emphasis is one of discs, at 44.1 kHz; this sound has {sample_rate / 1000:g} kHz.")
        self._filter = signal.lfilter
        self._state = np.zeros((2, channels))

    def push(self, block: Block, *, last: bool = False) -> Block:
        if not len(block):
            return block
        filtered, self._state = self._filter(*_DEEMPHASIS, block, axis=0, zi=self._state)
        return np.asarray(filtered)


class _Resample:
    """soxr at its very high quality; the result has round(samples x ratio) samples, no delay."""

    def __init__(self, rate_in: int, rate_out: int, channels: int) -> None:
        self._ratio = rate_out / rate_in
        self._engine = soxr.ResampleStream(rate_in, rate_out, channels, dtype="float64", quality="VHQ")
        self._pushed = 0
        self._given = 0

    def push(self, block: Block, *, last: bool = False) -> Block:
        self._pushed += len(block)
        out = self._engine.resample_chunk(np.ascontiguousarray(block, dtype=np.float64), last=last)
        if last:
            wanted = round(self._pushed * self._ratio) - self._given
            if len(out) < wanted:
                out = np.concatenate([out, np.zeros((wanted - len(out), out.shape[1]))])
            out = out[:wanted]
        self._given += len(out)
        return np.asarray(out)


class _Gain:
    def __init__(self, gain_db: float) -> None:
        self._factor = 10.0 ** (gain_db / 20.0)

    def push(self, block: Block, *, last: bool = False) -> Block:
        return np.asarray(block * self._factor)


class _ToFloat32:
    """Values beyond full scale are kept and counted: what decodes a lossy coding of them limits them."""

    def __init__(self) -> None:
        self.over_values = 0
        self.largest = 0.0

    def push(self, block: Block, *, last: bool = False) -> Block:
        largest = float(np.abs(block).max(initial=0.0))
        if largest > 1:
            self.over_values += int(np.count_nonzero(np.abs(block) > 1))
            self.largest = max(self.largest, largest)
        return block.astype(np.float32)


class Chain:
    """Stages in order. `push` hands on what is ready, `finish` what was held back."""

    def __init__(self, shape: SoundShape, stages: Sequence[Stage]) -> None:
        self.shape = shape
        self._stages = tuple(stages)
        self._channels_in: int | None = None

    @property
    def is_exact(self) -> bool:
        """True when integer samples pass with their values unchanged."""
        return all(isinstance(stage, _Widen) for stage in self._stages)

    @property
    def clipped_values(self) -> int:
        return sum(stage.clipped_values for stage in self._stages if isinstance(stage, Quantise))

    @property
    def not_numbers(self) -> int:
        """Values that were none."""
        return sum(stage.not_numbers for stage in self._stages if isinstance(stage, _ToFloat))

    @property
    def over_values(self) -> int:
        """Values beyond full scale that floating point keeps."""
        return sum(stage.over_values for stage in self._stages if isinstance(stage, _ToFloat32))

    @property
    def over_db(self) -> float:
        """How far the largest value lay beyond full scale; 0 where none did."""
        largest = max((s.largest for s in self._stages if isinstance(s, (Quantise, _ToFloat32))), default=0.0)
        return 20 * math.log10(largest) if largest > 1 else 0.0

    def push(self, block: Block) -> Block:
        self._channels_in = block.shape[1]
        for stage in self._stages:
            block = stage.push(block)
        return block

    def finish(self) -> Iterable[Block]:
        """Yield the tail. An empty stream has none."""
        if self._channels_in is None or not self._stages:
            return
        block: Block = np.zeros((0, self._channels_in))
        for stage in self._stages:
            block = stage.push(block, last=True)
        if len(block):
            yield block


_HALF = math.sqrt(0.5)

_TO_STEREO = {
    "L": (1.0, 0.0),
    "R": (0.0, 1.0),
    "C": (_HALF, _HALF),
    "LFE": (0.0, 0.0),
    "Ls": (_HALF, 0.0),
    "Rs": (0.0, _HALF),
    "Lb": (_HALF, 0.0),
    "Rb": (0.0, _HALF),
    "Cs": (0.5, 0.5),
}


def mix_matrix(channels_in: int, channels_out: int, speakers: tuple[str, ...] = ()) -> Float:
    """Coefficients shaped (channels_out, channels_in), ITU-R BS.775 for surround to stereo (from memory).

    speakers are the names of the channels that come in, in their order; without them WAV's usual order
    for so many counts. LFE is left out. Mono to stereo is the same signal twice; stereo to mono is the
    mean, so that a mono signal keeps its level; a down-mix is not scaled. Raises EncodeError for a mix
    nobody defined.
    """
    if channels_in == channels_out:
        return np.eye(channels_in)
    if channels_in == 1:
        return np.ones((channels_out, 1)) if channels_out == 2 else _no_mix(channels_in, channels_out)
    names = speakers or CHANNEL_ORDERS.get(channels_in, ())
    if channels_out > 2 or not names:
        return _no_mix(channels_in, channels_out)
    stereo = np.array([_TO_STEREO[name] for name in names]).T
    return stereo if channels_out == 2 else stereo.mean(axis=0, keepdims=True)


def mix_said(channels_in: int, channels_out: int, speakers: tuple[str, ...] = ()) -> str:
    """What a down-mix of surround sound does with each channel, in words; "" where nothing else is mixed than two
    channels to one. Raises EncodeError as mix_matrix."""
    if channels_out >= channels_in or channels_in == 2:
        return ""
    matrix = mix_matrix(channels_in, channels_out, speakers)
    names = speakers or CHANNEL_ORDERS[channels_in]
    by_level: dict[float, list[str]] = {}
    for name, column in zip(names, matrix.T, strict=True):
        by_level.setdefault(round(float(column.max()), 3), []).append(name)
    parts = [
        f"{' '.join(found)} "
        + ("left out" if not level else "in full" if level == 1 else f"at {figure(20 * math.log10(level), '.0f')} dB")
        for level, found in sorted(by_level.items(), reverse=True)
    ]
    most_db = 20 * math.log10(float(matrix.sum(axis=1).max()))
    more = (
        f" Together they may go up to {most_db:.0f} dB beyond full scale; the report says whether they did."
        if most_db > 0.5
        else ""
    )
    return f"Mixed from {channels_in} channels to {channels_out}: {', '.join(parts)}.{more}"


def _no_mix(channels_in: int, channels_out: int) -> Float:
    raise EncodeError(f"There is no agreed way to turn {channels_in} channels into {channels_out}.")


def build_chain(source: SoundShape, result: SoundShape, treatment: Treatment) -> Chain:
    """The shortest chain from one shape to another. Nothing is dithered that stays exact."""
    same_values = (
        source.sample_rate == result.sample_rate
        and not treatment.changes_samples
        and source.is_float == result.is_float
        and (source.is_float or source.depth_bits <= result.depth_bits)
    )
    if same_values and (source.channels == result.channels or (source.channels, result.channels) == (1, 2)):
        untouched: list[Stage] = []
        if not source.is_float and source.depth_bits <= 16 < result.depth_bits:
            untouched.append(_Widen())
        if source.channels < result.channels:
            untouched.append(_Duplicate())
        return Chain(result, untouched)
    stages: list[Stage] = [_ToFloat()]
    if source.channels > result.channels:
        stages.append(_Mix(mix_matrix(source.channels, result.channels, source.speakers)))
    channels = min(source.channels, result.channels)
    if treatment.deemphasis:
        stages.append(_Deemphasis(source.sample_rate, channels))
    if source.sample_rate != result.sample_rate:
        stages.append(_Resample(source.sample_rate, result.sample_rate, channels))
    if treatment.highpass_hz is not None:
        stages.append(_HighPass(result.sample_rate, channels, treatment.highpass_hz))
    if source.channels < result.channels:
        stages.append(_Mix(mix_matrix(source.channels, result.channels)))
    if treatment.gain_db:
        stages.append(_Gain(treatment.gain_db))
    if treatment.limit_dbtp is not None:
        stages.append(Limiter(replace(result, channels=max(channels, result.channels)), treatment.limit_dbtp))
    stages.append(
        _ToFloat32() if result.is_float else Quantise(result.depth_bits, result.sample_rate, treatment.dither)
    )
    return Chain(result, stages)
