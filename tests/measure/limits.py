"""Makes the table of what every encoder leaves of a sound: ./run measure limits."""

import multiprocessing
import os
import tempfile
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from zlib import crc32

import numpy as np

from rumbrel.core.encoders.encodings import Encoding, coding_of, encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.level import as_float
from rumbrel.core.sound.likeness.bands import BAND_EDGES_HZ, Stretches, StretchMaker, band_count
from rumbrel.core.sound.likeness.limits import TABLE, UNKNOWN, Coding, Limits, write_limits
from rumbrel.core.sound.likeness.measures import (
    ADDED,
    CLASSES,
    FIGURES,
    LOUDER,
    QUIETER,
    SPANS,
    Found,
    Measurer,
    level_bands_of,
)
from rumbrel.core.sound.quantise import Quantise
from rumbrel.core.sound.shape import Block, SoundShape

from .material import KINDS, Sound, any_sound, recordings

OF_EACH_KIND, RECORDED, SECONDS = 4, 28, 3.2
FIRST_SEED = 1_000_000
"""Seeds from here on are the table's own: nothing that is measured against it uses them."""
_KEPT_DB = 3.0
_SMALLEST_GAIN = 0.01

Asked = tuple[str, int, int, EncoderSettings]
"""Encoding, sample rate, channels, settings."""


def _kbps(
    encoding: str, rates: Sequence[int], channels: int, mode: str | None, bitrates: Iterable[int]
) -> Iterator[Asked]:
    for rate in rates:
        for kbps in bitrates:
            yield encoding, rate, channels, EncoderSettings(mode=mode, bitrate_kbps=kbps)


def _quality(encoding: str, rates: Sequence[int], mode: str | None, steps: Iterable[float]) -> Iterator[Asked]:
    for rate in rates:
        for channels in (1, 2):
            for step in steps:
                yield encoding, rate, channels, EncoderSettings(mode=mode, quality=step)


def asked_ways() -> list[Asked]:
    """The ways of coding that have a row each; what lies between two is held against the lower one."""
    ways: list[Asked] = []
    for channels, bitrates, lower in (
        (1, (32, 48, 64, 96, 128, 192), (64, 128)), (2, (48, 64, 96, 128, 160, 192, 256, 320), (64, 128, 192, 320)),
    ):  # fmt: skip
        ways += _kbps("mp3", (44_100,), channels, "constant", bitrates)
        ways += _kbps("mp3", (48_000,), channels, "constant", lower)
        ways += _kbps("mp3", (32_000,), channels, "constant", lower[:1])
        ways += _kbps("mp3", (22_050,), channels, "constant", (16, 32, 64) if channels == 1 else (32, 64))
        ways += _kbps("mp3", (16_000,), channels, "constant", (16, 32) if channels == 1 else (32,))
        ways += _kbps("mp3", (8_000,), channels, "constant", (8, 24) if channels == 1 else (16,))
        ways += _kbps("mp3", (44_100,), channels, "average", (64, 128) if channels == 1 else (96, 128, 192))
    ways += _quality("mp3", (44_100,), "variable", (0.0, 0.3, 0.6, 0.8, 1.0))
    ways += _quality("mp3", (22_050,), "variable", (0.0,))
    for rate, mono, stereo in (
        (44_100, (32, 48, 64, 96, 128), (48, 64, 96, 128, 192, 256, 320)), (48_000, (64, 96), (96, 128, 192, 256)),
        (32_000, (48,), (64,)), (22_050, (24, 48), (32,)), (16_000, (16, 32), (32,)), (8_000, (12,), (16,)),
        (96_000, (96,), (192, 320)),
    ):  # fmt: skip
        ways += [*_kbps("aac", (rate,), 1, None, mono), *_kbps("aac", (rate,), 2, None, stereo)]
    ways += _kbps("opus", (48_000,), 1, None, (6, 12, 16, 24, 32, 48, 64, 96))
    ways += _kbps("opus", (48_000,), 2, None, (24, 32, 48, 64, 96, 128, 192, 256))
    ways += _kbps("opus", (48_000,), 1, "constant", (24,))
    ways += _kbps("opus", (48_000,), 2, "constant", (64, 128))
    ways += _quality("vorbis", (44_100,), None, (0.0, 0.2, 0.4, 0.6, 0.8, 1.0))
    ways += _quality("vorbis", (22_050, 8_000, 96_000), None, (0.2,))
    for channels in (1, 2):
        ways += _kbps("wma", (44_100,), channels, None, (48, 64, 128, 192))
        ways += _kbps("wma", (22_050,), channels, None, (32,))
        for rate in (8_000, 44_100):
            ways += [(key, rate, channels, EncoderSettings()) for key in ("wav-mu-law", "wav-a-law", "wav-ima-adpcm")]
    ways += [("wav-gsm", 8_000, 1, EncoderSettings()), ("vox", 8_000, 1, EncoderSettings())]
    return [*ways, ("wav-g722", 16_000, 1, EncoderSettings())]


def shape_for(encoding: Encoding, rate: int, channels: int) -> SoundShape:
    return SoundShape(sample_rate=rate, channels=channels, depth_bits=encoding.depths[0] if encoding.depths else 0)


def given(sound: Sound, shape: SoundShape) -> Block:
    """What an encoder is given of a sound: with dither where it takes integers."""
    if not shape.depth_bits:
        return sound.astype(np.float32)
    return Quantise(shape.depth_bits, shape.sample_rate).push(sound, last=True)


def coded(encoding: Encoding, shape: SoundShape, block: Block, settings: EncoderSettings) -> Block:
    """What comes out again, from the first sample on and as long."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"x{encoding.suffix}")
        encoder = encoding.open(path, shape, settings)
        for start in range(0, len(block), 65_536):
            encoder.write(block[start : start + 65_536])
        encoder.finish()
        with open_sound(path, inspect_file(path).choice()) as opened:
            out = np.concatenate([as_float(piece) for piece in opened.blocks()])
    whole = np.zeros((len(block), shape.channels), np.float32)
    kept = out[encoding.leading_samples :][: len(block)]
    whole[: len(kept)] = kept
    return whole


def with_any_effort(encoding: Encoding, settings: EncoderSettings, seed: int) -> EncoderSettings:
    """The encoder's own steps of diligence are all honest."""
    chance = np.random.default_rng(seed).random()
    if encoding.efforts is None or chance < 0.6:
        return settings
    return replace(settings, effort=encoding.efforts[chance < 0.8])


def stretches_of(source: Block, result: Block, shape: SoundShape) -> list[Stretches]:
    maker = StretchMaker(shape.sample_rate, shape.channels)
    one = np.asarray(as_float(source), np.float32)
    return [*maker.push(one, result), *maker.finish()]


def row_of(asked: Asked) -> tuple[Limits, str]:
    """The limits of a way of coding, and what to print of it."""
    key, rate, channels, settings = asked
    encoding = encoding_for(key)
    shape = shape_for(encoding, rate, channels)
    begun = time.perf_counter()
    kept: list[tuple[list[Stretches], float]] = []
    kinds = [kind for kind in KINDS if kind != "recorded"] * OF_EACH_KIND + ["recorded"] * RECORDED
    for number, kind in enumerate(kinds):
        # Sounds differ from row to row as well, but for the recordings among them, of which there are only so many.
        seed = FIRST_SEED + crc32(repr(coding_of(encoding, shape, settings)).encode()) % 900_000 * 100 + number
        _, sound = any_sound(seed, rate, channels, SECONDS, kind=kind)
        block = given(sound, shape)
        result = coded(encoding, shape, block, with_any_effort(encoding, settings, seed))
        one = as_float(block)
        energy = float((one**2).sum())
        along = float((one * result).sum())
        like = along / np.sqrt(energy * float((result.astype(np.float64) ** 2).sum()) + 1e-30)
        kept.append((stretches_of(block, result, shape), along / energy if like > 0.99 else np.nan))
    gains = np.array([gain for _, gain in kept])
    gain = float(np.nanmedian(gains)) if np.isfinite(gains).any() else 1.0
    gain = gain if abs(gain - 1) > _SMALLEST_GAIN else 1.0
    bands = band_count(rate)
    level = level_bands_of(rate, bands)
    first = _largest([stretches for stretches, _ in kept], channels, gain, level)
    level &= first.bands[QUIETER, len(SPANS) - 1, 0, : CLASSES - 1].max(axis=0) < _KEPT_DB
    limits = replace(
        _largest([stretches for stretches, _ in kept], channels, gain, level),
        coding=coding_of(encoding, shape, settings),
    )
    said = f"{key} {rate} Hz, {channels} ch, {settings.mode or ''} {settings.bitrate_kbps or settings.quality or ''}: gain {20 * np.log10(gain):+.2f} dB, {time.perf_counter() - begun:.0f} s"
    return limits, said


def _largest(sounds: list[list[Stretches]], channels: int, gain: float, level: np.ndarray) -> Limits:
    bands = np.full((3, len(SPANS), 2, CLASSES, len(level)), UNKNOWN)
    figures = np.full(len(FIGURES), -np.inf)
    for stretches in sounds:
        measurer = Measurer(channels, gain=gain, level_bands=level)
        for found in [*map(measurer.chunk, stretches), measurer.whole()]:
            _take_largest(found, bands, figures)
    none = Coding(encoding="", sample_rate=0, channels=channels)
    return Limits(
        coding=none,
        gain=gain,
        level_bands=level.copy(),
        bands=bands,
        figures=np.where(np.isfinite(figures), figures, 0.0),
    )


def _take_largest(found: Found, bands: np.ndarray, figures: np.ndarray) -> None:
    for measured in found.bands:
        span = SPANS.index(measured.span)
        for kind, signals in ((0, slice(0, 2)), (1, slice(2, 3))):
            values, classes = measured.bands[:, :, signals], measured.classes[:, signals]
            if not values.shape[2]:
                continue
            for number in range(CLASSES):
                largest = np.where(classes == number, values, UNKNOWN).max(axis=(1, 2))
                np.maximum(bands[:, span, kind, number], largest, out=bands[:, span, kind, number])
    for figure in found.figures:
        figures[figure.index] = max(figures[figure.index], float(figure.values.max()))


_LONELY_ROWS, _LONELY_DB, _LONELY_FIGURE_DB = 6, 3.0, 1.0
_TREBLE_HZ = 11_000


def pooled(rows: Sequence[Limits]) -> list[Limits]:
    """Rows as the table has them: what is rare in one way of coding was seen in another.

    A row has the largest figures of all that must be at least as near to their source: the same encoder at more bits a
    channel, at about the same rate. What short stretches of weaker bands did, what was added to faint bands and what went
    missing between the channels counts for all of an encoder's. A low-pass may begin a band lower. Where there are few
    rows to learn from, everything is a little wider.
    """
    made = [
        replace(row, bands=np.max([other.bands for other in rows if _is_no_worse(other, row)], axis=0)) for row in rows
    ]
    return [_with_family(row, [other for other in made if _are_kin(other, row)]) for row in made]


def _with_family(row: Limits, family: Sequence[Limits]) -> Limits:
    bands, widest = row.bands.copy(), np.max([other.bands for other in family], axis=0)
    weaker, short, long = slice(1, None), slice(0, 2), slice(2, None)
    np.maximum(bands[:, short, :, weaker], widest[:, short, :, weaker], out=bands[:, short, :, weaker])
    for measure in (ADDED, LOUDER):
        np.maximum(bands[measure, long, :, -1], widest[measure, long, :, -1], out=bands[measure, long, :, -1])
    np.maximum(bands[QUIETER, :, 1, weaker], widest[QUIETER, :, 1, weaker], out=bands[QUIETER, :, 1, weaker])
    treble = sum(edge < _TREBLE_HZ for edge in BAND_EDGES_HZ)
    above = bands[QUIETER, ..., treble + 1 :]
    np.maximum(bands[QUIETER, ..., treble:-1], above, out=bands[QUIETER, ..., treble:-1])
    figures = row.figures
    if len(family) < _LONELY_ROWS:
        bands, figures = np.where(bands > UNKNOWN, bands + _LONELY_DB, bands), figures + _LONELY_FIGURE_DB
    return replace(row, bands=bands, figures=figures)


def _are_kin(one: Limits, other: Limits) -> bool:
    near = abs(np.log2(one.coding.sample_rate / other.coding.sample_rate)) < _SAME_OCTAVES
    return bool(one.coding.encoding == other.coding.encoding and near)


_SAME_OCTAVES = 0.6


def _is_no_worse(other: Limits, row: Limits) -> bool:
    one, two = other.coding, row.coding
    if one.encoding != two.encoding or other.bands.shape != row.bands.shape:
        return False
    if one == two:
        return True
    by_quality = one.mode == "variable" or one.encoding == "vorbis"
    if by_quality != (two.mode == "variable" or two.encoding == "vorbis"):
        return False
    amounts = (one.amount, two.amount) if by_quality else (one.amount / one.channels, two.amount / two.channels)
    near = abs(np.log2(one.sample_rate / two.sample_rate)) < _SAME_OCTAVES
    return bool(near and one.channels >= two.channels and amounts[0] >= amounts[1])


def measure_limits(folder: Path) -> None:
    """Writes the table, and says row by row how long it took."""
    ways = asked_ways()
    print(f"{len(recordings())} recordings, {len(KINDS)} kinds of sound, {len(ways)} ways of coding")
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        rows = []
        for limits, said in pool.imap_unordered(row_of, ways, chunksize=1):
            print(f"{len(rows) + 1} of {len(ways)}: {said}", flush=True)
            rows.append(limits)
    write_limits(pooled(_of_one_width(rows)))
    print(f"{len(rows)} rows in {TABLE}, {TABLE.stat().st_size:,} bytes")


def _of_one_width(rows: Sequence[Limits]) -> list[Limits]:
    """Rows at low rates have fewer bands: those that are missing are unknown."""
    most = max(row.bands.shape[-1] for row in rows)
    return [
        replace(row, bands=np.pad(row.bands, [(0, 0)] * 4 + [(0, most - row.bands.shape[-1])], constant_values=UNKNOWN),
                level_bands=np.pad(row.level_bands, (0, most - len(row.level_bands))))
        for row in rows
    ]  # fmt: skip
