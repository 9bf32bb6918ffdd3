"""How far right and wrong results lie apart: every lossy encoding, at several bitrates, on many kinds of sound."""

import tempfile
from collections import Counter, defaultdict
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy import signal

from rumbrel.core.encoders.encodings import ENCODINGS, Encoding
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.level import as_float
from rumbrel.core.sound.likeness import Sketch, compared
from rumbrel.core.sound.shape import SoundShape

Sound = NDArray[np.float64]
SECONDS = 6
_BITRATES: dict[tuple[str, int], tuple[int, ...]] = {
    ("mp3", 8_000): (8, 24), ("mp3", 16_000): (16, 32), ("mp3", 22_050): (16, 32, 64), ("mp3", 44_100): (32, 64, 128, 320),
    ("aac", 8_000): (12, 24), ("aac", 16_000): (16, 32), ("aac", 22_050): (24,), ("aac", 44_100): (32, 64, 128, 256),
    ("opus", 48_000): (6, 12, 16, 24, 32, 64, 128), ("wma", 22_050): (32, 64), ("wma", 44_100): (32, 64, 192),
}  # fmt: skip


def kinds(rate: int, channels: int) -> dict[str, Sound]:
    """Sounds that codings treat differently, the two channels never alike but for the sweep."""
    count = rate * SECONDS
    time = np.arange(count) / rate

    def both(make: "object") -> Sound:
        return np.stack([make(channel) for channel in range(channels)], axis=1)  # type: ignore[operator]

    def noise(seed: int) -> Sound:
        return np.random.default_rng(seed).standard_normal(count)

    def speech(channel: int) -> Sound:
        pitch = np.cumsum(110 * (1 + 0.2 * np.sin(2 * np.pi * 0.7 * time))) / rate
        pulses, voice = np.diff(np.floor(pitch), prepend=0), 0.02 * noise(9 + channel)
        for formant, width, gain in ((600, 90, 1), (1300, 120, 0.6), (2600, 200, 0.3)):
            voice = voice + gain * signal.lfilter(*signal.iirpeak(formant, formant / width, rate), pulses)
        spoken = (np.sin(2 * np.pi * 1.7 * time + channel) > -0.3) * (0.4 + 0.6 * np.abs(np.sin(0.8 * np.pi * time)))
        return 0.6 * voice * spoken / np.max(np.abs(voice))

    def pink(channel: int) -> Sound:
        spectrum = np.fft.rfft(noise(3 + channel)) / np.sqrt(np.maximum(1, np.arange(count // 2 + 1)))
        return 0.4 * (made := np.fft.irfft(spectrum, count)) / np.max(np.abs(made))

    def bells(channel: int) -> Sound:
        dice, made = np.random.default_rng(7), np.zeros(count)
        for _ in range(12):
            start, pitch = int(dice.integers(0, count)), dice.uniform(200, 900)
            after = np.arange(count - start) / rate
            for ratio, level, decay in ((0.5, 1, 0.5), (1, 1, 1), (1.2, 0.6, 1.3), (2, 0.7, 2.5), (3, 0.4, 5)):
                if pitch * ratio < rate / 2.2:
                    made[start:] += level * np.exp(-decay * after) * np.sin(2 * np.pi * pitch * ratio * after + channel)
        return 0.5 * made / np.max(np.abs(made))

    def clicks(channel: int) -> Sound:
        dice, made = np.random.default_rng(8 + channel), np.zeros(count)
        for start in dice.integers(0, count - 2_000, 40):
            made[start : start + 1_500] += np.exp(-np.arange(1_500) / 200) * dice.standard_normal(1_500)
        return 0.6 * made / np.max(np.abs(made))

    def chords(channel: int) -> Sound:
        tones = sum(0.1 * np.sin(2 * np.pi * pitch * time + channel) for pitch in (220, 331, 447))
        return tones + 0.02 * noise(1 + channel)

    return {
        "chords": both(chords), "speech": both(speech), "bells": both(bells), "clicks": both(clicks), "pink noise": both(pink),
        "white noise": both(lambda c: 0.2 * noise(20 + c).clip(-4, 4)), "very quiet": both(lambda c: 0.001 * chords(c)),
        "high tone": both(lambda c: 0.3 * np.sin(2 * np.pi * min(9_000, rate * 0.36) * time + c)),
        "low tone": both(lambda c: 0.5 * np.sin(2 * np.pi * 45 * time + c)),
        "sweep": both(lambda c: 0.4 * signal.chirp(time, 40, SECONDS, rate * 0.42, method="logarithmic")),
    }  # fmt: skip


def wrongs(right: Sound, rate: int) -> Iterator[tuple[str, Sound]]:
    """What a check must not call right."""
    silent, cut = right.copy(), np.concatenate([right[: 2 * rate], right[3 * rate :], right[:rate] * 0])
    silent[2 * rate : 3 * rate] = 0
    yield from (
        ("silence", right * 0),
        ("reversed", right[::-1]),
        ("from its middle on", np.roll(right, len(right) // 2 + 777, 0)),
    )
    yield from (
        ("a second silent", silent),
        ("a second cut out", cut),
        ("6 dB louder", right * 2),
        ("6 dB quieter", right / 2),
    )
    if right.shape[1] == 2:
        dropped = right.copy()
        dropped[:, 1] = 0
        yield from (("channels swapped", right[:, ::-1]), ("a channel dropped", dropped))


def coded(encoding: Encoding, shape: SoundShape, sound: Sound, settings: EncoderSettings) -> tuple[Sound, Sound]:
    """(what goes in, what comes out)."""
    block = np.round(sound * 32767).astype(np.int16) if shape.depth_bits else sound.astype(np.float32)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"x{encoding.suffix}")
        encoder = encoding.open(path, shape, settings)
        encoder.write(block)
        encoder.finish()
        with open_sound(path, inspect_file(path).choice()) as opened:
            out = np.concatenate([as_float(piece) for piece in opened.blocks()])
    return as_float(block), out[encoding.leading_samples :][: len(block)]


def cases() -> Iterator[tuple[Encoding, int, int | None, int]]:
    for encoding in ENCODINGS:
        for rate in () if encoding.lossless else encoding.rates or (44_100,):
            key = ("aac" if encoding.codec == "aac" else encoding.key, rate)
            if encoding.bitrates_kbps != () and key not in _BITRATES:
                continue
            for kbps in _BITRATES.get(key, (None,)):
                for channels in range(1, min(2, encoding.max_channels) + 1):
                    yield encoding, rate, kbps, channels


def sketch_of(sound: Sound, shape: SoundShape) -> Sketch:
    sketch = Sketch(shape, len(sound) / shape.sample_rate)
    sketch.push(sound)
    return sketch


def measure_likeness(folder: Path) -> None:
    """Prints how often each verdict was given: of right results by encoding and kind, of wrong ones by what is wrong."""
    right: dict[str, Counter[str]] = defaultdict(Counter)
    wrong: dict[str, Counter[str]] = defaultdict(Counter)
    refused: list[str] = []
    for encoding, rate, kbps, channels in cases():
        shape = SoundShape(sample_rate=rate, channels=channels, depth_bits=encoding.depths[0] if encoding.depths else 0)
        for kind, sound in kinds(rate, channels).items():
            before, after = coded(encoding, shape, sound, EncoderSettings(bitrate_kbps=kbps))
            source = sketch_of(before, shape)
            found = compared(source, sketch_of(after, shape))
            right[f"{encoding.key} {kbps or ''}"][str(found.verdict)] += 1
            if found.verdict != "passed":
                refused.append(f"{encoding.key} {rate} Hz {kbps or ''} kbit/s {channels} ch, {kind}: {found.text}")
            for name, other in wrongs(after, rate):
                wrong[f"{name}"][str(compared(source, sketch_of(other, shape)).verdict)] += 1
    for title, table in (("right", right), ("wrong", wrong)):
        for name, counts in table.items():
            print(f"{title}: {name}: {dict(counts)}")
    print("\n".join(["right, but not passed:", *refused]))
