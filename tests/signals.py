"""Signals and files that tests make for themselves."""

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import soundfile
from numpy.typing import NDArray

from rumbrel.core.conversion import Outcome, carry_out
from rumbrel.core.forecast import ForecastOptions, WhenPresent, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.targets import find_target

RATE = 44_100


def music(samples: int, *, rate: int = RATE, channels: int = 2, seed: int = 1) -> NDArray[np.float64]:
    """Chords with noise, shaped (samples, channels), peaks below 0.7."""
    time = np.arange(samples) / rate
    random = np.random.default_rng(seed)
    tones = sum(0.1 * np.sin(2 * np.pi * pitch * (1 + seed / 50) * time) for pitch in (220, 331, 447))
    return np.stack([tones + 0.02 * random.standard_normal(samples) for _ in range(channels)], axis=1)


def melody(seed: int, rate: int = RATE, seconds: int = 20) -> NDArray[np.float64]:
    """Tones that decay, two a second; the same melody at every rate. Shaped (samples,)."""
    chance, sound = np.random.default_rng(seed), np.zeros(rate * seconds)
    at = np.arange(rate * 2) / rate
    for half in range(2 * seconds - 4):
        strike = np.sin(2 * np.pi * chance.uniform(200, 3_000) * at) * np.exp(-at * chance.uniform(2, 9))
        start = rate * half // 2
        sound[start : start + len(at)] += 0.2 * strike * (chance.random() < 0.7)
    return sound


def write_sound(
    path: Path, samples: int = 30_011, *, subtype: str = "PCM_16", sound: NDArray[np.float64] | None = None, **more: int
) -> Path:
    """A file in the format its ending names: music, or the sound given."""
    values = music(samples, **more) if sound is None else sound
    path.parent.mkdir(parents=True, exist_ok=True)
    with soundfile.SoundFile(path, "w", more.get("rate", RATE), values.shape[1], subtype=subtype) as file:
        for start in range(0, len(values), 2048):
            file.write(values[start : start + 2048])
    return path


def write_framed(
    path: Path, codec: str, *, muxer: str, rate: int = 48_000, channels: int = 2, seconds: float = 2
) -> Path:
    """Music by one of FFmpeg's encoders, in one of its containers."""
    layout = {1: "mono", 2: "stereo"}[channels]
    path.parent.mkdir(parents=True, exist_ok=True)
    with av.open(str(path), "w", format=muxer) as container:
        stream = container.add_stream(codec, rate=rate, layout=layout)
        stream.codec_context.bit_rate = {"libopencore_amrnb": 12_200}.get(codec, 128_000)
        _encode_sound(container, stream, music(round(rate * seconds), rate=rate, channels=channels), rate, layout)
    return path


def _encode_sound(container, stream, sound, rate, layout, *, first_pts=0) -> None:  # type: ignore[no-untyped-def]
    resampler = av.AudioResampler(format=stream.codec_context.format, layout=layout, rate=rate,
                                  frame_size=stream.codec_context.frame_size or None)  # fmt: skip
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound.T, dtype=np.float32), format="fltp", layout=layout)
    frame.sample_rate, frame.time_base, frame.pts = rate, Fraction(1, rate), first_pts
    for part in [*resampler.resample(frame), *resampler.resample(None)]:
        container.mux(stream.encode(part))
    container.mux(stream.encode(None))


def write_film(
    path: Path, *, seconds: float, sound_late_seconds: float = 0.0, languages: tuple[str, ...] = ("eng",)
) -> Path:
    """A few grey pictures with AAC sound at 48 kHz, one stream a language."""
    rate = 48_000
    path.parent.mkdir(parents=True, exist_ok=True)
    with av.open(str(path), "w") as container:
        pictures = container.add_stream("mpeg4", rate=10)
        pictures.width, pictures.height, pictures.pix_fmt = 64, 48, "yuv420p"
        sounds = [container.add_stream("aac", rate=rate, layout="stereo") for _ in languages]
        for stream, language in zip(sounds, languages, strict=True):
            stream.metadata["language"] = language
        for number in range(round(seconds * 10)):
            picture = av.VideoFrame.from_ndarray(np.full((48, 64, 3), number % 200, dtype=np.uint8), format="rgb24")
            container.mux(pictures.encode(picture))
        container.mux(pictures.encode(None))
        for seed, stream in enumerate(sounds, 1):
            sound = music(round(rate * (seconds - sound_late_seconds)), rate=rate, seed=seed)
            _encode_sound(container, stream, sound, rate, "stereo", first_pts=round(sound_late_seconds * rate))
    return path


def decoded(path: Path) -> NDArray[np.float64]:
    """All samples, shaped (samples, channels), full scale at 2**31."""
    facts = inspect_file(path)
    with open_sound(path, facts.choice()) as sound:
        blocks = list(sound.blocks())
    joined = np.concatenate(blocks)
    scale = {"int16": 65536.0, "int32": 1.0}.get(joined.dtype.name, 2.0**31)
    return np.asarray(joined.astype(np.float64) * scale)


def convert_one(source: Path, target: str, out: Path, when: str = "skip", sound: str = "") -> Outcome:
    """Forecast and carry out a single source."""
    options = ForecastOptions(when_present=WhenPresent(when), sound=sound)
    plan = forecast_batch(gather_sources([source]), find_target(target), out, options=options)
    return carry_out(plan.steps[0])


def leftovers(folder: Path) -> list[str]:
    """Working files that should not be there."""
    return [str(path) for path in folder.rglob("*.part")] + [str(path) for path in folder.rglob(".rumbrel*")]
