"""Which rate, depth and channels a result gets: the source's own where allowed, else the nearest."""

from collections.abc import Iterator

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.sound.shape import SoundShape

from .model import Recipe

__all__ = ["planned_shape", "recipe_shapes"]


_HEARING_NEEDS_HZ = 40_000
"""Twice the highest pitch that people hear, 20 kHz (sampling theorem; common practice)."""


def _rate(source_hz: int, allowed: tuple[int, ...]) -> int:
    """Keep an allowed rate; else the next above, a whole multiple first; else below in the same way, but no lower than
    hearing needs where that can be."""
    if not allowed or source_hz in allowed:
        return source_hz
    above = [rate for rate in allowed if rate > source_hz]
    if above:
        return min([rate for rate in above if rate % source_hz == 0] or above)
    enough = [rate for rate in allowed if rate >= _HEARING_NEEDS_HZ] or list(allowed)
    return max([rate for rate in enough if source_hz % rate == 0] or enough)


def _depth(source_bits: int | None, allowed: tuple[int, ...]) -> int:
    """Keep an allowed depth; else the next deeper, else the deepest. Lossy sources get the first."""
    if not allowed:
        return 0
    if source_bits is None:
        return allowed[0]
    deeper = [depth for depth in allowed if depth >= source_bits]
    return min(deeper) if deeper else max(allowed)


def _channels(source: int, allowed: tuple[int, ...]) -> int:
    """Keep an allowed count; else the largest below, else the smallest."""
    below = [count for count in allowed if count <= source]
    return max(below) if below else min(allowed)


def planned_shape(recipe: Recipe, *, sample_rate: int, bit_depth: int | None, channels: int) -> SoundShape:
    """The shape a source of these facts is converted to."""
    highest_rate = encoding_for(recipe.encoding).highest_rate
    while not recipe.sample_rates and highest_rate is not None and sample_rate > highest_rate:
        # The decoded rates of one bit sound are powers of two of one another.
        sample_rate = sample_rate // 2
    return SoundShape(
        sample_rate=_rate(sample_rate, recipe.sample_rates),
        channels=_channels(channels, recipe.channels),
        depth_bits=_depth(bit_depth, recipe.bit_depths),
    )


def recipe_shapes(recipe: Recipe) -> Iterator[SoundShape]:
    """Every shape the recipe can lead to, with 44.1 kHz standing for any rate where none is listed."""
    encoding = encoding_for(recipe.encoding)
    for rate in recipe.sample_rates or encoding.rates or (44_100,):
        for depth in recipe.bit_depths or (0,):
            for channels in {min(recipe.channels), max(recipe.channels)}:
                yield SoundShape(sample_rate=rate, channels=channels, depth_bits=depth)
