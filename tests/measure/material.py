"""Sound of many kinds, made by numbers and taken from recordings, for what has to be measured over all of them.

Recordings are read from the folders in RUMBREL_RECORDINGS, or where Debian's packages sonic-pi-samples (lossless) and
wesnoth-1.16-music put theirs; without any of them there is made sound alone, and that is said.
"""

import os
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray
from scipy import signal

Sound = NDArray[np.float64]

_FOLDERS = ("/usr/share/sonic-pi/samples", "/usr/share/games/wesnoth/1.16/data/core/music")
_LEAST_BYTES = 60_000


@lru_cache(maxsize=2)
def recordings(lossless: bool = False) -> tuple[Path, ...]:
    """Files of recorded sound, lossless ones alone where that is asked for."""
    folders = os.environ.get("RUMBREL_RECORDINGS", ":".join(_FOLDERS)).split(":")
    suffixes = (".flac", ".wav") if lossless else (".flac", ".wav", ".ogg")
    found = [path for folder in folders for path in sorted(Path(folder).rglob("*")) if path.suffix in suffixes]
    return tuple(path for path in found if path.stat().st_size >= _LEAST_BYTES)


class Dice:
    """A seeded source of chance, with the time of the sound that is to be made."""

    def __init__(self, seed: int, rate: int, channels: int, seconds: float, *, lossless: bool = False) -> None:
        self.lossless = lossless
        self.random = np.random.default_rng(seed)
        self.rate, self.channels, self.count = rate, channels, int(rate * seconds)
        self.time = np.arange(self.count) / rate

    def between(self, low: float, high: float) -> float:
        return float(self.random.uniform(low, high))

    def by_ratio(self, low: float, high: float) -> float:
        return float(np.exp(self.random.uniform(np.log(low), np.log(high))))

    def noise(self) -> Sound:
        return self.random.standard_normal((self.count, self.channels))

    def pick(self, names: tuple[str, ...], weights: dict[str, float]) -> str:
        shares = np.array([weights.get(name, 1.0) for name in names])
        return names[int(self.random.choice(len(names), p=shares / shares.sum()))]


def _full(sound: Sound, level: float) -> Sound:
    return level * sound / max(1e-9, float(np.abs(sound).max()))


def chords(dice: Dice) -> Sound:
    tones = [dice.by_ratio(60, 2000) for _ in range(int(dice.random.integers(2, 9)))]
    noise, turn = dice.by_ratio(1e-4, 0.05), dice.between(0, 3)
    parts = [
        np.sin(2 * np.pi * hertz * dice.time[:, None] + turn * np.arange(dice.channels) + number)
        for number, hertz in enumerate(tones) if hertz < dice.rate * 0.45
    ]  # fmt: skip
    return 0.5 * sum(parts) / len(tones) + noise * dice.noise()


def speech(dice: Dice) -> Sound:
    """Pulses of a moving pitch through formants, with pauses."""
    sway = 1 + 0.2 * np.sin(2 * np.pi * dice.between(0.3, 2) * dice.time)
    pulses = np.diff(np.floor(np.cumsum(dice.between(80, 260) * sway) / dice.rate), prepend=0)
    formants = (
        (dice.between(400, 800), 90, 1),
        (dice.between(1000, 1800), 120, 0.6),
        (dice.between(2200, 3200), 200, 0.3),
    )
    rhythm, share, breath = dice.between(1, 4), dice.between(-0.5, 0.3), dice.by_ratio(0.002, 0.05)
    voiced = sum(
        gain * signal.lfilter(*signal.iirpeak(hertz, hertz / width, dice.rate), pulses)
        for hertz, width, gain in formants if hertz < dice.rate * 0.45
    )  # fmt: skip
    spoken = np.sin(2 * np.pi * rhythm * dice.time) > share
    sound = (voiced[:, None] + breath * dice.noise()) * spoken[:, None]
    if dice.random.random() < 0.6:
        sound = np.repeat(sound[:, :1], dice.channels, axis=1)
    return _full(sound, 0.7)


def bells(dice: Dice) -> Sound:
    made = np.zeros((dice.count, dice.channels))
    for _ in range(int(dice.random.integers(3, 30))):
        start, pitch = int(dice.random.integers(0, dice.count)), dice.by_ratio(100, 1500)
        after, pan = np.arange(dice.count - start) / dice.rate, dice.random.random(dice.channels)
        for ratio, level, decay in (
            (0.5, 1, 0.5),
            (1, 1, 1),
            (1.2, 0.6, 1.3),
            (2, 0.7, 2.5),
            (3, 0.4, 5),
            (4.2, 0.3, 7),
        ):
            if pitch * ratio < dice.rate / 2.2:
                tone = level * np.exp(-decay * after) * np.sin(2 * np.pi * pitch * ratio * after)
                made[start:] += tone[:, None] * pan
    return _full(made, 0.7)


def clicks(dice: Dice) -> Sound:
    made = np.zeros((dice.count, dice.channels))
    length = int(dice.between(0.0005, 0.04) * dice.rate) + 8
    for start in dice.random.integers(0, dice.count - length - 1, int(dice.random.integers(3, 60))):
        decay = np.exp(-np.arange(length) / (length * dice.between(0.08, 0.3)))
        made[start : start + length] += decay[:, None] * dice.random.standard_normal((length, dice.channels))
    return _full(made, 0.7)


def drums(dice: Dice) -> Sound:
    made, step, beat, start = np.zeros((dice.count, dice.channels)), dice.between(0.1, 0.3), 0, 0
    while start < dice.count:
        length = min(dice.count - start, dice.rate // 4)
        after = np.arange(length) / dice.rate
        noise = dice.random.standard_normal((length + 1, dice.channels))
        if beat % 4 == 0:
            thump = np.sin(2 * np.pi * (50 + 60 * np.exp(-after * 30)) * after) * np.exp(-after * 9)
            made[start : start + length] += thump[:, None]
        elif beat % 4 == 2:
            made[start : start + length] += 0.5 * np.exp(-after * 18)[:, None] * noise[1:]
        made[start : start + length] += 0.15 * np.exp(-after * 60)[:, None] * np.diff(noise, axis=0)
        start, beat = start + int(step * dice.rate), beat + 1
    return _full(made, 0.8)


def noise(dice: Dice) -> Sound:
    """White to brown."""
    slope = dice.between(0, 1.2)
    spectra = np.fft.rfft(dice.noise(), axis=0) / np.maximum(1, np.arange(dice.count // 2 + 1))[:, None] ** slope
    return _full(np.fft.irfft(spectra, dice.count, axis=0), dice.by_ratio(0.01, 0.8))


def band_noise(dice: Dice) -> Sound:
    low = dice.by_ratio(50, dice.rate * 0.2)
    high = min(dice.rate * 0.48, low * dice.between(1.2, 6))
    filtered = signal.sosfilt(signal.butter(6, [low, high], "band", fs=dice.rate, output="sos"), dice.noise(), axis=0)
    return _full(filtered, 0.6)


def tone(dice: Dice) -> Sound:
    hertz, turn = dice.by_ratio(25, dice.rate * 0.45), dice.between(0, 3)
    pure = np.sin(2 * np.pi * hertz * dice.time[:, None] + turn * np.arange(dice.channels))
    return dice.between(0.05, 0.9) * pure + dice.by_ratio(1e-6, 1e-2) * dice.noise()


def sweep(dice: Dice) -> Sound:
    low, high = dice.by_ratio(20, dice.rate * 0.1), dice.between(0.1, 0.45) * dice.rate
    ends = (high, low) if dice.random.random() < 0.4 else (low, high)
    method = "logarithmic" if dice.random.random() < 0.5 else "linear"
    swept = signal.chirp(dice.time, ends[0], dice.time[-1], ends[1], method=method)
    return dice.between(0.1, 0.8) * np.repeat(swept[:, None], dice.channels, axis=1)


def buzz(dice: Dice) -> Sound:
    wave = signal.square if dice.random.random() < 0.5 else signal.sawtooth
    made = wave(2 * np.pi * dice.by_ratio(40, 900) * dice.time)
    return dice.between(0.1, 0.6) * made[:, None] * dice.random.choice([1, -1, 0.5], dice.channels)


def impulses(dice: Dice) -> Sound:
    made = np.zeros((dice.count, dice.channels))
    made[int(dice.between(0.01, 0.3) * dice.rate) :: int(dice.between(0.02, 0.7) * dice.rate)] = dice.between(0.3, 1)
    return made


def one_note(dice: Dice) -> Sound:
    """Silence, then one decaying note."""
    made, start = np.zeros((dice.count, dice.channels)), int(dice.between(0.1, 0.8) * dice.count)
    after = dice.time[: dice.count - start]
    note = np.exp(-dice.between(0.5, 8) * after) * np.sin(2 * np.pi * dice.by_ratio(60, 3000) * after)
    made[start:] = dice.between(0.05, 0.8) * note[:, None]
    return made


def flute(dice: Dice) -> Sound:
    hertz = dice.by_ratio(200, 1200)
    phase = np.cumsum(hertz * (1 + 0.01 * np.sin(2 * np.pi * 5.5 * dice.time))) / dice.rate
    swell = 0.5 + 0.5 * np.sin(2 * np.pi * dice.between(0.2, 1) * dice.time)
    blown = sum(
        part**-1.5 * np.sin(2 * np.pi * part * phase) for part in range(1, 8) if part * hertz * 1.02 < dice.rate * 0.48
    )
    return 0.3 * swell[:, None] * (blown[:, None] + dice.by_ratio(0.001, 0.05) * dice.noise())


def recorded(dice: Dice) -> Sound:
    """A stretch of a recording, or of bells where there is none."""
    files = recordings(dice.lossless)
    if not files:
        return bells(dice)
    path = files[int(dice.random.integers(len(files)))]
    info = soundfile.info(path)
    wanted = int(dice.count / dice.rate * info.samplerate) + 2000
    start = int(dice.between(0, max(1, info.frames - wanted)))
    sound, rate = soundfile.read(path, start=start, frames=wanted, dtype="float64", always_2d=True)
    if rate != dice.rate:
        sound = soxr.resample(sound, rate, dice.rate)
    sound = np.tile(sound, (-(-dice.count // len(sound)), 1))[: dice.count]
    if dice.channels == 1:
        return sound.mean(axis=1, keepdims=True)
    return np.repeat(sound, 2, axis=1)[:, : dice.channels] if sound.shape[1] == 1 else sound[:, : dice.channels]


KINDS: dict[str, Callable[[Dice], Sound]] = {
    made.__name__: made
    for made in (
        chords, speech, bells, clicks, drums, noise, band_noise, tone, sweep, buzz, impulses, one_note, flute, recorded,
    )
}  # fmt: skip
_OFTENER = {"recorded": 5.0}


def any_sound(
    seed: int, rate: int, channels: int, seconds: float, *, lossless: bool = False, kind: str = ""
) -> tuple[str, Sound]:
    """(its kind, a sound of any kind or of two, in any of the states that recordings are found in). lossless leaves
    recordings that were ever coded with loss out; kind is the first kind, where that is not left to chance."""
    dice = Dice(seed, rate, channels, seconds, lossless=lossless)
    kind = kind or dice.pick(tuple(KINDS), _OFTENER)
    sound = KINDS[kind](dice)
    if dice.random.random() < 0.15:
        other = dice.pick(tuple(KINDS), _OFTENER)
        kind, sound = f"{kind}+{other}", 0.6 * sound + 0.5 * KINDS[other](dice)
    return kind, np.nan_to_num(_placed(dice, _treated(dice, sound)))


def _treated(dice: Dice, sound: Sound) -> Sound:
    """Very quiet, faded, clipped, off centre, dull, gated or hissing, one time in two and a half."""
    chance = dice.random.random()
    if chance < 0.10:
        return sound * dice.by_ratio(3e-4, 0.05)
    if chance < 0.16:
        return sound * np.linspace(1, 0, len(sound))[:, None] ** dice.between(1, 4)
    if chance < 0.20:
        return np.clip(sound * dice.between(2, 6), -dice.between(1, 1.4), 1)
    if chance < 0.24:
        return sound + dice.between(-0.3, 0.3)
    if chance < 0.32:
        hertz = dice.by_ratio(1500, 9000)
        if hertz > dice.rate * 0.4:
            return sound
        return signal.sosfiltfilt(signal.butter(10, hertz, fs=dice.rate, output="sos"), sound, axis=0)
    if chance < 0.36:
        return sound * (np.sin(2 * np.pi * dice.between(0.3, 2) * dice.time) > dice.between(-0.5, 0.5))[:, None]
    return sound + dice.by_ratio(1e-5, 3e-3) * dice.noise() if chance < 0.40 else sound


def _placed(dice: Dice, sound: Sound) -> Sound:
    """Between two channels: in one of them, in both alike, nearly alike, inverted or unequal, one time in four."""
    chance = dice.random.random()
    if dice.channels != 2 or chance >= 0.28:
        return sound
    middle, aside = sound.mean(axis=1, keepdims=True), (sound[:, :1] - sound[:, 1:]) * np.array([[1, -1]])
    if chance < 0.06:
        return sound * np.array([[1, 0]])
    if chance < 0.12:
        return np.repeat(middle, 2, axis=1)
    if chance < 0.18:
        return np.repeat(middle, 2, axis=1) + dice.by_ratio(1e-4, 0.05) * aside
    return middle * np.array([[1, -1.0]]) if chance < 0.22 else sound * np.array([[1, dice.by_ratio(0.01, 1)]])
