"""Source and result side by side, as energies in bands of short stretches: every sample of both goes in.

Frames of about 20 ms become spectra; six frames make a stretch, of which these are kept for each channel, and for stereo
also for half the difference of the two: in each band the energy of the source, that of the result, and what they have in
common. Beside them stand sums over the samples themselves, and both sounds at about 1 kHz, in which a hum is found.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["BAND_EDGES_HZ", "Stretches", "StretchMaker", "band_count", "frame_samples"]

Floats = NDArray[np.float32]
Doubles = NDArray[np.float64]

BAND_EDGES_HZ = (
    0, 100, 200, 300, 400, 510, 630, 770, 920, 1080, 1270, 1480, 1720, 2000, 2320, 2700, 3150, 3700, 4400, 5300, 6400,
    7700, 9500, 11_000, 12_500, 14_000, 15_000, 16_000, 17_000, 18_000, 19_000, 20_000, 22_050,
)  # fmt: skip
"""Lower edges: critical bands (Zwicker, from memory) up to 9.5 kHz, then narrow ones, since low-passes end there."""
_FRAME_SECONDS = 0.02
FRAMES_A_STRETCH = 6
STRETCHES_A_CHUNK = 96
"""About 13 s: what is held of a sound at a time. A multiple of every span that is measured."""
_STRETCHES_AT_ONCE = 4
_TOP_SHARE = 0.75
_SLOW_HZ = 1000


def frame_samples(sample_rate: int) -> int:
    """Samples of a frame: a power of two, 20 ms or a little more."""
    return 1 << max(6, math.ceil(math.log2(sample_rate * _FRAME_SECONDS)))


def band_count(sample_rate: int) -> int:
    """How many bands there are below half the rate."""
    return sum(edge < sample_rate / 2 for edge in BAND_EDGES_HZ)


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretches:
    """Some stretches that follow each other. source, result and common are mean energies, shaped (stretches, signals,
    bands), of a sine at full scale 1.0; signals are the channels, and for stereo half their difference.

    sums are of the samples, shaped (stretches, channels, 6): of the source's largest values their size, and what the
    result has there; the energies of both, what they have in common, and the largest value of the result. slow_source
    and slow_result are both sounds at about 1 kHz, shaped (values, channels). constant is the energy of the source's constant part in the
    loudest channel, shaped (stretches,): it is in none of the bands.
    """

    first: int
    stretch_seconds: float
    source: Doubles
    result: Doubles
    common: Doubles
    sums: Doubles
    slow_source: Floats
    slow_result: Floats
    slow_rate: float
    constant: Doubles

    def __len__(self) -> int:
        return len(self.source)


def _half_flat(samples: int) -> Floats:
    """A window of which the middle half is 1, with the flanks of a raised cosine (Tukey 1967, from memory)."""
    rising = np.arange(samples // 4 + 1) / ((samples - 1) / 4)
    flank = (1 - np.cos(np.pi * np.minimum(rising, 1))) / 2
    window = np.ones(samples, np.float32)
    window[: len(flank)], window[-len(flank) :] = flank, flank[::-1]
    return window


_FEW_SAMPLES = 1 << 25
_transformed = [0]


def _rfft(framed: Floats) -> NDArray[np.complex64]:
    """Spectra of frames. The quicker way is imported only where a process has much to do: that takes as long as numpy's
    own for three minutes of stereo."""
    _transformed[0] += framed.size
    if _transformed[0] < _FEW_SAMPLES:
        return np.asarray(np.fft.rfft(framed))
    from scipy import fft

    return np.asarray(fft.rfft(framed))


class StretchMaker:
    """Push pieces of both sounds, equally long and at the same place; chunks of stretches come out."""

    def __init__(self, sample_rate: int, channels: int) -> None:
        self._rate, self._channels = sample_rate, channels
        self._frame = frame_samples(sample_rate)
        self._stretch = self._frame * FRAMES_A_STRETCH
        self._window = _half_flat(self._frame)
        hertz = np.arange(self._frame // 2 + 1) * sample_rate / self._frame
        band = np.searchsorted(BAND_EDGES_HZ, hertz, side="right") - 1
        self._in_band = np.zeros((len(band), band_count(sample_rate)), dtype=np.float32)
        # The bin at half the rate belongs to the last band.
        self._in_band[np.arange(len(band)), np.minimum(band, self._in_band.shape[1] - 1)] = 1
        self._scale = 4.0 / (float((self._window.astype(np.float64) ** 2).sum()) * self._frame)
        self._slow_step = max(1, sample_rate // _SLOW_HZ)
        self._held: list[tuple[Floats, Floats]] = []
        self._held_samples = 0
        self._tail: tuple[Floats, Floats] | None = None
        self._first = 0

    def push(self, source: Floats, result: Floats) -> Iterator[Stretches]:
        """Take float32 shaped (samples, channels) of both."""
        if len(source):
            self._held.append((source, result))
            self._held_samples += len(source)
        whole = self._stretch * STRETCHES_A_CHUNK
        # One more sample than a chunk, so that there is always a last one left for the end.
        while self._held_samples > whole:
            one, other = (np.concatenate(parts) for parts in zip(*self._held, strict=True))
            self._held = [(one[whole:], other[whole:])]
            self._held_samples -= whole
            yield self._made(one[:whole], other[:whole])

    def finish(self) -> Iterator[Stretches]:
        """What is left. Its last frame is the last full one, so that no sample is left out."""
        if self._held_samples:
            one, other = (np.concatenate(parts) for parts in zip(*self._held, strict=True))
            self._held, self._held_samples = [], 0
            yield self._made(one, other)

    def _made(self, one: Floats, other: Floats) -> Stretches:
        count = -(-len(one) // self._stretch)
        # Channel by channel: reducing over the long axis is many times faster than over so short a one.
        one, other = (np.ascontiguousarray(sound.T) for sound in (one, other))
        source, result, common = self._energies(one, other)
        made = Stretches(
            first=self._first, stretch_seconds=self._stretch / self._rate, source=source, result=result,
            common=common, sums=self._sample_sums(one, other, count), slow_source=self._slow(one),
            slow_result=self._slow(other), slow_rate=self._rate / self._slow_step, constant=self._constant(one, count),
        )  # fmt: skip
        self._first += count
        # The end of this chunk goes before a short last one, which has no full frame of its own.
        self._tail = (one[:, -self._frame :], other[:, -self._frame :])
        return made

    def _framed(self, sound: Floats, before: Floats | None) -> Floats:
        """Of sound shaped (channels, samples), its frames: (channels, frames, samples of a frame)."""
        channels, samples = sound.shape
        frames, rest = divmod(samples, self._frame)
        if rest:
            if frames:
                last = sound[:, -self._frame :]
            else:
                room = self._frame - rest
                lead = before[:, -room:] if before is not None else sound[:, :0]
                silence = np.zeros((channels, room - lead.shape[1]), np.float32)
                last = np.concatenate([silence, lead, sound], axis=1)
            sound = np.concatenate([sound[:, : frames * self._frame], last], axis=1)
        return sound.reshape(channels, -1, self._frame)

    def _energies(self, one: Floats, other: Floats) -> tuple[Doubles, Doubles, Doubles]:
        before = self._tail or (None, None)
        framed = [self._framed(sound, lead) for sound, lead in zip((one, other), before, strict=True)]
        # In pieces that the cache of a core holds: half the time of all at once.
        step = FRAMES_A_STRETCH * _STRETCHES_AT_ONCE
        found: list[list[Doubles]] = [[], [], []]
        for start in range(0, framed[0].shape[1], step):
            spectra = []
            for sound in framed:
                part = sound[:, start : start + step]
                # Some encoders take a constant part out, which nobody hears; it would spill into the lowest bands.
                spectrum = _rfft((part - part.mean(-1, keepdims=True)) * self._window)
                if self._channels == 2:
                    spectrum = np.concatenate([spectrum, (spectrum[:1] - spectrum[1:]) / 2])
                spectra.append(np.asarray(spectrum, np.complex64))
            source, result = spectra
            for kept, part in zip(
                found,
                (
                    source.real**2 + source.imag**2,
                    result.real**2 + result.imag**2,
                    source.real * result.real + source.imag * result.imag,
                ),
                strict=True,
            ):
                kept.append(self._in_bands(part))
        first, second, third = (np.concatenate(kept) for kept in found)
        return first, second, third

    def _in_bands(self, energy: Floats) -> Doubles:
        """Of energies shaped (signals, frames, bins), means over the frames of each stretch, summed up in each band:
        (stretches, signals, bands)."""
        frames = energy.shape[1]
        banded = energy @ self._in_band
        starts = np.arange(0, frames, FRAMES_A_STRETCH)
        counts = np.diff(np.append(starts, frames))
        summed = np.add.reduceat(banded, starts, axis=1).transpose(1, 0, 2)
        return np.asarray(summed, np.float64) * (self._scale / counts[:, None, None])

    def _sample_sums(self, one: Floats, other: Floats, count: int) -> Doubles:
        room = count * self._stretch - one.shape[1]
        if room:
            silence = np.zeros((one.shape[0], room), np.float32)
            one, other = (np.concatenate([sound, silence], axis=1) for sound in (one, other))
        whole = [sound.reshape(len(sound), count, self._stretch) for sound in (one, other)]
        return np.concatenate([
            self._sums_of(*(sound[:, start : start + _STRETCHES_AT_ONCE] for sound in whole))
            for start in range(0, count, _STRETCHES_AT_ONCE)
        ])  # fmt: skip

    def _sums_of(self, source: Floats, result: Floats) -> Doubles:
        largest = np.maximum(result.max(-1), -result.min(-1))
        source, result = (sound - sound.mean(-1, keepdims=True) for sound in (source, result))
        size = np.abs(source)
        top = (size >= _TOP_SHARE * size.max(-1, keepdims=True)).astype(np.float32)
        along = np.copysign(top, source)
        sums = (
            np.einsum("cts,cts->ct", size, top), np.einsum("cts,cts->ct", along, result),
            np.einsum("cts,cts->ct", source, source), np.einsum("cts,cts->ct", result, result),
            np.einsum("cts,cts->ct", source, result), largest,
        )  # fmt: skip
        return np.stack(sums, axis=-1).astype(np.float64).transpose(1, 0, 2)

    def _constant(self, one: Floats, count: int) -> Doubles:
        starts = np.arange(0, one.shape[1], self._stretch)
        lengths = np.diff(np.append(starts, one.shape[1]))
        means = np.add.reduceat(one, starts, axis=1, dtype=np.float64) / lengths
        return np.asarray((means**2).max(0)[:count])

    def _slow(self, sound: Floats) -> Floats:
        count = sound.shape[1] // self._slow_step
        steps = sound[:, : count * self._slow_step].reshape(len(sound), count, self._slow_step)
        return np.asarray(steps.mean(-1).T, np.float32)
