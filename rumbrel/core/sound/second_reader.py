"""A second decoder of another make reads some stretches of a sound, and has to find what the first one found.

A decoder that is asked wrongly or that errs yields sound as readily as a right one. Two that share no code seldom err
alike, so every source is decoded by both here and there while it is converted, measured or analysed.
"""

import os
from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path

import av
import av.error
import numpy as np
import soundfile
from numpy.typing import NDArray

from rumbrel.core.errors import DecodeError, ReadersDiffer
from rumbrel.core.formats.table import container_row

from .decoding import FramedPart, SoundSource, StreamChoice, open_sound
from .level import as_float
from .shape import Block, SoundShape

__all__ = ["SecondReading", "TwiceReadSound", "open_twice_read", "read_by", "readers_of"]

Sound = NDArray[np.float64]

_STRETCH_SAMPLES = 12_288
_STRETCHES = 4
_EDGE_SAMPLES = 2_400
"""Left out where a stretch was reached by seeking: decoders need packets before it to be in step."""
_RUN_UP_SAMPLES, _LONG_RUN_UP_SAMPLES = 1 << 14, 1 << 19
_LEAST_COMPARED = 1_024
_IMPLAUSIBLE_PEAK = 4.0
"""12 dB beyond full scale: more than any coding adds to sound that was within it."""
_BAND_EDGES_HZ = (0, 250, 500, 1000, 2000, 4000, 8000, 12_000, 16_000)
_BANDS_DB = 6.0
_TELLING_SHARE = 0.02
_SILENT = 1e-4


class _Agreement(Enum):
    """How near each other two decoders of a codec come."""

    BITS = "bit by bit"
    ROUNDING = "to the last bit of 16"
    BANDS = "in the energy of every band"
    """Their resamplers or noise differ, which the standards leave to them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Pair:
    """first reads everything, second is asked by decoder, FFmpeg's name of one, or is libsndfile where that is ""."""

    first: str
    second: str
    decoder: str
    agreement: _Agreement


_PLAIN = _Pair(first="libsndfile", second="FFmpeg", decoder="own", agreement=_Agreement.BITS)
_MPEG = _Pair(first="FFmpeg", second="libmpg123", decoder="", agreement=_Agreement.ROUNDING)
_PAIRS: dict[str, _Pair] = {
    **dict.fromkeys(("pcm", "pcm-float", "mu-law", "a-law"), _PLAIN),
    "flac": _Pair(first="libFLAC", second="FFmpeg", decoder="own", agreement=_Agreement.BITS),
    "mp3": _MPEG,
    "mp2": _MPEG,
    "vorbis": _Pair(first="libvorbis", second="FFmpeg", decoder="own", agreement=_Agreement.ROUNDING),
    "opus": _Pair(first="libopus", second="FFmpeg", decoder="opus", agreement=_Agreement.BANDS),
    # Of no other make, but of other arithmetic: what is scaled or laid out wrongly shows. AAC's noise is each one's own.
    "aac": _Pair(first="FFmpeg", second="FFmpeg in fixed point", decoder="aac_fixed", agreement=_Agreement.BANDS),
    "ac3": _Pair(first="FFmpeg", second="FFmpeg in fixed point", decoder="ac3_fixed", agreement=_Agreement.BANDS),
}
_ROUNDING = 2.0 / 32768


class TwiceReadSound:
    """A sound whose blocks are decoded by one reader throughout, and here and there by a second one."""

    def __init__(self, sound: SoundSource, second: "SecondReading") -> None:
        self._sound, self._second = sound, second
        self.shape = sound.shape

    @property
    def damaged_packets(self) -> int:
        return self._sound.damaged_packets

    @property
    def damaged_at(self) -> list[int]:
        return self._sound.damaged_at

    def blocks(self) -> Iterator[Block]:
        """As SoundSource.blocks. Raises ReadersDiffer at the end."""
        for block in self._sound.blocks():
            self._second.push(block)
            yield block
        self.prove()

    def prove(self) -> None:
        """Raise ReadersDiffer where the decoders disagree about what was read so far. Around damage every decoder does
        as it likes: then there is nothing to be agreed about."""
        if not self._sound.damaged_packets and (text := self._second.disagreement()):
            raise ReadersDiffer(text)


@contextmanager
def open_twice_read(path: Path, choice: StreamChoice, samples: int) -> Iterator[TwiceReadSound]:
    """Open a sound of about so many samples to be read whole. Raises DecodeError as open_sound."""
    with open_sound(path, choice) as sound:
        yield TwiceReadSound(sound, SecondReading(path, choice, sound.shape, samples))


def readers_of(choice: StreamChoice) -> tuple[str, ...]:
    """The names of the decoders that read a sound: the first reads all of it, the second, where there is one, stretches
    of it."""
    pair = _pair_of(choice)
    if pair is not None:
        return pair.first, pair.second
    plain = container_row(choice.container).plain if choice.container else False
    return ("libsndfile" if plain or choice.bare is not None else "FFmpeg",)


def read_by(source: StreamChoice, result: StreamChoice) -> str:
    """Which decoders read a source and its result: "libFLAC and FFmpeg (source), FFmpeg (result)"."""
    return f"{' and '.join(readers_of(source))} (source), {readers_of(result)[0]} (result)"


def _pair_of(choice: StreamChoice) -> _Pair | None:
    pair = _PAIRS.get(choice.codec)
    if choice.links or choice.bare is not None or choice.sound_index or pair is None:
        return None
    if choice.container not in _CONTAINERS and pair.first != "FFmpeg":
        return None
    if pair is _MPEG and choice.container != "mp3":
        return None
    if choice.codec == "vorbis" and choice.channels not in (1, 2):
        return None
    return pair


_CONTAINERS = frozenset({"wav", "rf64", "w64", "aiff", "caf", "au", "flac", "mp3", "ogg"})


class SecondReading:
    """Push every block of a sound as it is decoded; then ask whether a second decoder agrees with it."""

    def __init__(self, path: Path, choice: StreamChoice, shape: SoundShape, samples: int) -> None:
        """samples is about how long the sound will be."""
        self._path, self._choice, self._shape = path, choice, shape
        self._pair = _pair_of(choice)
        last = max(0, samples - _STRETCH_SAMPLES)
        self._starts = sorted({round(last * part / (_STRETCHES - 1)) for part in range(_STRETCHES)})
        self._kept: dict[int, list[Block]] = {start: [] for start in self._starts}
        self._at = 0
        self._peak, self._peak_at = 0.0, 0

    def push(self, block: Block) -> None:
        end = self._at + len(block)
        if self._pair is not None:
            for start in self._starts:
                low, high = max(start, self._at), min(start + _STRETCH_SAMPLES, end)
                if low < high:
                    self._kept[start].append(np.array(block[low - self._at : high - self._at]))
        elif block.dtype.kind == "f" and len(block):
            peak = float(np.abs(block).max())
            if peak > self._peak:
                self._peak, self._peak_at = peak, self._at
        self._at = end

    def disagreement(self) -> str:
        """What to say where the two differ, or where there is one alone and what it yields cannot be; "" where all is
        well, or where the second cannot read the file."""
        if self._pair is None:
            return self._implausible()
        for start in self._starts:
            if not self._kept[start]:
                continue
            first = as_float(np.concatenate(self._kept[start]))
            for sought in (True, False):
                second = self._second(start, len(first), sought)
                if second is None or _agree(first, second, self._pair.agreement, self._shape.sample_rate):
                    break
                # After seeking a decoder may not be in step: only one that came from far before accuses.
                if not sought:
                    return self._differ(start)
        return ""

    def _differ(self, start: int) -> str:
        assert self._pair is not None
        seconds = start / self._shape.sample_rate
        return (
            f"Two decoders disagree about {self._path.name}: {self._pair.first} and {self._pair.second} find other sound "
            f"at {int(seconds) // 60} min {seconds % 60:.0f} s. Nothing that is made of it could be trusted; "
            "get another copy of the file."
        )

    def _implausible(self) -> str:
        if self._peak <= _IMPLAUSIBLE_PEAK or self._choice.codec == "pcm-float":
            return ""
        seconds = self._peak_at / self._shape.sample_rate
        return (
            f"{self._path.name} decodes to {20 * np.log10(self._peak):.0f} dB beyond full scale at "
            f"{int(seconds) // 60} min {seconds % 60:.0f} s, which no such file holds: it is damaged or was read wrongly. "
            "Get another copy of the file."
        )

    def _second(self, start: int, count: int, sought: bool) -> Sound | None:
        """The same stretch by the second decoder; not a number where it yields nothing. None where it cannot read it."""
        assert self._pair is not None
        stretch = self._choice.stretch
        start += stretch.start_sample if stretch else 0
        try:
            if not self._pair.decoder:
                return self._by_sndfile(start, count, sought)
            decoder = "" if self._pair.decoder == "own" else self._pair.decoder
            return self._by_ffmpeg(start, count, decoder, sought)
        except (av.error.FFmpegError, soundfile.SoundFileError, DecodeError, OSError, RuntimeError, ValueError):
            # That it cannot read the file says nothing against the first.
            return None

    def _by_sndfile(self, start: int, count: int, sought: bool) -> Sound | None:
        with _unheard(), soundfile.SoundFile(str(self._path)) as file:
            if (file.samplerate, file.channels) != (self._shape.sample_rate, self._shape.channels):
                return None
            # In one read: between two it seeks, and frames lean on those before them.
            run_up = min(start, _RUN_UP_SAMPLES if sought else _LONG_RUN_UP_SAMPLES)
            file.seek(min(start - run_up, file.frames))
            read: Sound = file.read(run_up + count, dtype="float64", always_2d=True)
            return _filled(read[run_up:], count)

    def _by_ffmpeg(self, start: int, count: int, decoder: str, sought: bool) -> Sound | None:
        if self._choice.codec == "pcm" and self._shape.depth_bits == 24 and _lies_in_32_bits(self._path):
            return None
        found = np.full((count, self._shape.channels), np.nan)
        whole = replace(self._choice, stretch=None)
        # A film's sound that begins late has silence before it, which no decoder yields.
        start -= self._choice.lead_samples
        with ExitStack() as stack:
            part = stack.enter_context(closing(FramedPart(self._path, whole, decoder)))
            blocks: Iterator[tuple[int, Block]] = stack.enter_context(
                closing(part.blocks_from(max(0, start)) if sought else part.counted_blocks())  # type: ignore[type-var]
            )
            for at, block in blocks:
                low, high = max(start, at), min(start + count, at + len(block))
                if low < high:
                    found[low - start : high - start] = as_float(block)[low - at : high - at]
                if at >= start + count:
                    break
        return found


def _lies_in_32_bits(path: Path) -> bool:
    """FFmpeg takes the 24 valid bits of such samples (WAVE_FORMAT_EXTENSIBLE) for their size, and reads noise."""
    with soundfile.SoundFile(str(path)) as file:
        return bool(file.subtype == "PCM_32")


@contextmanager
def _unheard() -> Iterator[None]:
    """libmpg123 tells the standard error of every frame whose beginning lies before the place that was sought."""
    try:
        kept = os.dup(2)
    except OSError:
        yield
        return
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 2)
        yield
    finally:
        os.dup2(kept, 2)
        os.close(nowhere)
        os.close(kept)


def _filled(read: Sound, count: int) -> Sound:
    found = np.full((count, read.shape[1]), np.nan)
    found[: len(read)] = read[:count]
    return found


def _agree(first: Sound, second: Sound, agreement: _Agreement, rate: int) -> bool:
    there: NDArray[np.bool_] = np.asarray(np.isfinite(second).all(axis=1))
    there[: min(_EDGE_SAMPLES, len(there) // 4)] = False
    if there.sum() < _LEAST_COMPARED:
        return True
    one, two = first[there], second[there]
    if agreement is _Agreement.BITS:
        return bool(np.array_equal(one, two))
    if float(np.abs(one - two).max()) <= _ROUNDING * max(1.0, float(np.abs(one).max())):
        return True
    return agreement is _Agreement.BANDS and _bands_agree(one, two, rate)


def _bands_agree(one: Sound, two: Sound, rate: int) -> bool:
    """Every band that holds a telling share of either has about the same energy in both."""
    for channel in range(one.shape[1]):
        energies = [_band_energies(sound[:, channel], rate) for sound in (one, two)]
        whole = max(energy.sum() for energy in energies)
        if whole < _SILENT**2 * len(one):
            continue
        for here, there in zip(*energies, strict=True):
            if max(here, there) < _TELLING_SHARE * whole:
                continue
            if abs(10 * np.log10((here + 1e-30) / (there + 1e-30))) > _BANDS_DB:
                return False
    return True


def _band_energies(sound: Sound, rate: int) -> Sound:
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(len(sound)))) ** 2 / len(sound)
    edges = [min(len(spectrum), round(hertz / rate * len(sound))) for hertz in _BAND_EDGES_HZ]
    return np.array([spectrum[low:high].sum() for low, high in zip(edges, [*edges[1:], len(spectrum)], strict=True)])
