"""The ways in which a target's files could be made instead of its own: what it accepts, and encoders write."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from rumbrel.core.encoders.encodings import ENCODINGS, Encoding
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import TargetError
from rumbrel.core.sound.dither import FLAT

from .model import Accepts, Recipe, Target
from .recipes import check_acceptance, check_recipe, possible_rates

__all__ = ["Way", "made_otherwise", "ways_of"]

_USUAL_KBPS = (24, 32, 48, 64, 96, 128, 160, 192, 224, 256, 320)
"""Offered where an encoder takes any bitrate."""
_QUALITIES = (0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Way:
    """key is a word for addresses, label what a practitioner calls it."""

    key: str
    label: str
    recipe: Recipe


def ways_of(target: Target) -> tuple[Way, ...]:
    """Every way that the target would accept the result of and whose encoder takes it, but for the target's own."""
    found: dict[str, Way] = {}
    for row in target.accepts:
        for encoding in ENCODINGS:
            if encoding.codec == row.codec and encoding.container in row.containers:
                for way in _ways(target, row, encoding):
                    if way.recipe != target.make:
                        found.setdefault(way.key, way)
    return tuple(found.values())


def _ways(target: Target, row: Accepts, encoding: Encoding) -> Iterator[Way]:
    own = target.make.encoding == encoding.key
    for words, label, settings in _settings(target, row, encoding):
        depths = target.make.bit_depths if own else _both(row.bit_depths, encoding.depths)
        recipe = Recipe(
            encoding=encoding.key,
            sample_rates=target.make.sample_rates
            if own
            else _both(row.sample_rates, possible_rates(encoding, settings)),
            bit_depths=depths,
            channels=target.make.channels if own else _both(row.channels, encoding.channel_counts),
            settings=settings,
            highpass_hz=target.make.highpass_hz,
            dither=target.make.dither if depths else FLAT,
        )
        try:
            check_recipe(recipe, target.name)
            check_acceptance(recipe, target.accepts, target.name)
        except TargetError:
            continue
        yield Way(key="-".join((encoding.key, *words)), label=f"{encoding.label}{label}", recipe=recipe)


def _both(wanted: tuple[int, ...], had: tuple[int, ...]) -> tuple[int, ...]:
    """What is in both; an empty one sets no limit."""
    return tuple(value for value in had if value in wanted) if wanted and had else wanted or had


def _settings(
    target: Target, row: Accepts, encoding: Encoding
) -> Iterator[tuple[tuple[str, ...], str, EncoderSettings]]:
    """(words of the key, what is said, settings) of each choice that the row accepts."""
    own = target.make.settings if target.make.encoding == encoding.key else EncoderSettings()
    plain = replace(own, mode=None, bitrate_kbps=None, quality=None)
    if encoding.bitrates_kbps == () and not encoding.has_quality:
        yield (), "", plain
        return
    for mode in encoding.modes:
        if row.modes and mode not in row.modes:
            continue
        if encoding.has_quality and mode == "variable":
            if not (row.bitrates_kbps or row.max_bitrate_kbps and encoding.codec != "mp3"):
                for quality in _QUALITIES:
                    said = f", quality {quality:g}, variable"
                    yield ("q", f"{quality:g}"), said, replace(plain, mode=mode, quality=quality)
            continue
        for kbps in encoding.bitrates_kbps or _USUAL_KBPS:
            if row.bitrates_kbps and kbps not in row.bitrates_kbps:
                continue
            if row.max_bitrate_kbps and kbps > row.max_bitrate_kbps:
                continue
            yield (mode, str(kbps)), f" {kbps} kbit/s, {mode}", replace(plain, mode=mode, bitrate_kbps=kbps)


def made_otherwise(target: Target, key: str) -> Target:
    """The target with another way of making; its own where key is "". Raises TargetError for a way it does not have."""
    if not key:
        return target
    for way in ways_of(target):
        if way.key == key:
            return replace(target, make=way.recipe)
    raise TargetError(f"{target.name} has no way '{key[:60]}' of making files. Choose one of those offered.")
