"""Sound of bells, organ pipes and a speaking voice, from partial tones; the same at every run."""

from collections.abc import Callable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

__all__ = ["BELLS_HZ", "chunks", "murmur", "organ_roll", "ringing"]

Float = NDArray[np.float32]

# Partials of a tower bell: hum, prime, tierce, quint, nominal and two above; ratio, level, seconds.
_BELL_PARTIALS = (
    (0.5, 0.5, 5.0), (1.0, 0.8, 3.2), (1.2, 0.7, 2.4), (1.5, 0.35, 1.6), (2.0, 1.0, 1.8), (2.67, 0.3, 0.9), (4.0, 0.2, 0.5),
)  # fmt: skip
# Eight bells of a major scale, treble first.
BELLS_HZ = tuple(262.0 * 2 ** (step / 12) for step in (12, 11, 9, 7, 5, 4, 2, 0))
_CHUNK_SECONDS = 20


def _bell(pitch_hz: float, rate: int) -> Float:
    time = np.arange(int(rate * 5), dtype=np.float32) / rate
    sound = np.zeros_like(time)
    for ratio, level, decay in _BELL_PARTIALS:
        sound += level * np.sin(2 * np.pi * pitch_hz * ratio * time) * np.exp(-3.5 * time / decay)
    sound[: rate // 200] *= np.linspace(0, 1, rate // 200, dtype=np.float32)
    return np.asarray(sound, dtype=np.float32)


def _pipe(pitch_hz: float, seconds: float, rate: int) -> Float:
    """An open pipe: strong low harmonics, a soft chiff, edges of 30 ms."""
    time = np.arange(int(rate * seconds), dtype=np.float32) / rate
    sound = sum(
        np.sin(2 * np.pi * pitch_hz * n * time + 0.7 * n) / n**1.6 for n in range(1, 8) if pitch_hz * n < rate / 2.2
    )
    edge = min(len(time) // 3, int(rate * 0.03))
    envelope = np.ones_like(time)
    envelope[:edge], envelope[-edge:] = np.linspace(0, 1, edge), np.linspace(1, 0, edge)
    return (np.asarray(sound) * envelope).astype(np.float32)


Event = tuple[float, Float, float]
"""Start in seconds, mono sound, place from -1 (left) to 1 (right)."""


def _mix(events: Sequence[Event], seconds: float, rate: int, channels: int) -> Iterator[Float]:
    """Lay events over each other, a chunk at a time, shaped (samples, channels)."""
    total, size = round(seconds * rate), _CHUNK_SECONDS * rate
    for start in range(0, total, size):
        stop = min(total, start + size)
        chunk = np.zeros((stop - start, channels), dtype=np.float32)
        for at_seconds, sound, place in events:
            at = round(at_seconds * rate)
            if at >= stop or at + len(sound) <= start:
                continue
            a, b = max(at, start), min(at + len(sound), stop)
            piece = sound[a - at : b - at]
            if channels == 1:
                chunk[a - start : b - start, 0] += piece
            else:
                chunk[a - start : b - start, 0] += piece * (0.8 - 0.35 * place)
                chunk[a - start : b - start, 1] += piece * (0.8 + 0.35 * place)
        yield chunk * np.float32(0.09)


def ringing(seed: int, seconds: float, rate: int, channels: int, bells: int = 8) -> Iterator[Float]:
    """Rounds that change: neighbours swap from row to row, as in tower ringing."""
    random = np.random.default_rng(seed)
    sounds = [_bell(pitch * (1 + 0.002 * seed % 0.01), rate) for pitch in BELLS_HZ[:bells]]
    order, events, at, row = list(range(bells)), [], 0.5, 0
    while at < seconds - 4:
        for bell in order:
            events.append((at + random.normal(0, 0.008), sounds[bell], 2 * bell / max(1, bells - 1) - 1))
            at += 0.27
        at += 0.27 if row % 2 else 0.0
        for place in range(row % 2, bells - 1, 2):
            if random.random() < 0.8:
                order[place], order[place + 1] = order[place + 1], order[place]
        row += 1
    events = [(max(0.0, when), sound, place) for when, sound, place in events]
    return _mix(events, seconds, rate, channels)


_SCALE_STEPS = (0, 2, 4, 5, 7, 9, 11, 12)


def organ_roll(seed: int, seconds: float, rate: int, channels: int) -> Iterator[Float]:
    """A waltz for barrel organ: bass, two chords, a tune that walks."""
    random = np.random.default_rng(1000 + seed)
    key = 196.0 * 2 ** (seed % 5 / 12)
    cache: dict[tuple[int, float], Float] = {}

    def note(step: int, length: float) -> Float:
        if (step, length) not in cache:
            cache[step, length] = _pipe(key * 2 ** (step / 12), length, rate)
        return cache[step, length]

    events: list[Event] = []
    at, tune = 0.2, 4
    while at < seconds - 2:
        root = int(random.choice([0, 5, 7, 9]))
        events.append((at, note(root - 12, 0.5), -0.6))
        for beat in (1, 2):
            for step in (root, root + 4 if root != 9 else root + 3, root + 7):
                events.append((at + 0.4 * beat, note(step, 0.3) * 0.5, 0.3))
        for beat in range(3):
            tune = int(np.clip(tune + random.integers(-2, 3), 0, 7))
            events.append((at + 0.4 * beat, note(_SCALE_STEPS[tune] + 12, 0.38), 0.5))
        at += 1.2
    return _mix(events, seconds, rate, channels)


def murmur(seed: int, seconds: float, rate: int, channels: int) -> Iterator[Float]:
    """Something like speech heard through a wall: syllables of a buzzing voice with changing vowels."""
    random = np.random.default_rng(2000 + seed)
    vowels = ((700, 1200), (400, 2000), (500, 900), (300, 2200), (600, 1600))
    voice = []
    for low, high in vowels:
        time = np.arange(int(rate * 0.24), dtype=np.float32) / rate
        sound = np.zeros_like(time)
        for n in range(1, 24):
            pitch = 118.0 * n
            if pitch < rate / 2.2:
                level = np.exp(-(((pitch - low) / 180) ** 2)) + 0.6 * np.exp(-(((pitch - high) / 260) ** 2)) + 0.02
                sound += np.float32(level) * np.sin(2 * np.pi * pitch * time, dtype=np.float32)
        voice.append(sound * np.sin(np.pi * time / 0.24) ** 2 * 2.0)
    events: list[Event] = []
    at = 0.3
    while at < seconds - 0.6:
        for _ in range(int(random.integers(5, 14))):
            events.append((at, voice[int(random.integers(len(voice)))], 0.0))
            at += float(random.uniform(0.16, 0.24))
        at += float(random.uniform(0.3, 0.9))
    return _mix([event for event in events if event[0] < seconds], seconds, rate, channels)


Maker = Callable[[int, float, int, int], Iterator[Float]]


def chunks(maker: Maker, *, seed: int, seconds: float, rate: int, channels: int) -> Iterator[Float]:
    """A piece's sound, kept from clipping."""
    for chunk in maker(seed, seconds, rate, channels):
        yield np.tanh(chunk)
