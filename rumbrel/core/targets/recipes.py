"""What a recipe can ask of its encoding."""

from collections.abc import Sequence

from rumbrel.core.encoders.encodings import Encoding, encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import EncodeError, TargetError
from rumbrel.core.sound.dither import FLAT, SHAPED_RATES
from rumbrel.core.sound.shape import SoundShape

from .model import Accepts, Recipe
from .planning import recipe_shapes

__all__ = ["check_acceptance", "check_dither", "check_recipe", "possible_rates"]


def possible_rates(encoding: Encoding, settings: EncoderSettings) -> tuple[int, ...]:
    """The encoding's rates at which these settings can be had."""

    def possible(rate: int) -> bool:
        try:
            depth = encoding.depths[0] if encoding.depths else 0
            encoding.check_request(SoundShape(sample_rate=rate, channels=1, depth_bits=depth), plain)
        except EncodeError:
            return False
        return True

    # What is wrong with the settings at any rate is for the recipe's own check to say.
    plain = EncoderSettings(bitrate_kbps=settings.bitrate_kbps, mode=settings.mode)
    return tuple(rate for rate in encoding.rates or () if possible(rate)) or encoding.rates or ()


def check_recipe(recipe: Recipe, where: str) -> None:
    """Ask the encoding about each shape the recipe could lead to, so that no option is silently void.

    Raises TargetError, which begins with where.
    """
    encoding = encoding_for(recipe.encoding)
    check_dither(recipe, where)
    try:
        encoding.check_settings(recipe.settings)
        for shape in recipe_shapes(recipe):
            encoding.check_request(shape, recipe.settings)
    except EncodeError as error:
        raise TargetError(f"{where}: {error}") from error


def check_dither(recipe: Recipe, where: str) -> None:
    """A dither that could have no effect is refused. Raises TargetError, which begins with where."""
    if recipe.dither == FLAT:
        return
    label = encoding_for(recipe.encoding).label
    if not recipe.bit_depths:
        raise TargetError(f"{where}: {label} takes floating point, so that nothing is rounded. Leave 'dither' out.")
    if recipe.dither == "shaped" and recipe.sample_rates and not set(recipe.sample_rates) & set(SHAPED_RATES):
        raise TargetError(f"{where}: shaped dither is for 44100 and 48000 Hz, which are not made. Leave 'dither' out.")


_AVERAGE_STRAYS = 1.1
"""How far the average that an encoder was asked for may be from what a track comes out with (our own choice)."""
_MOST_VARIABLE_KBPS = {"mp3": 320}
"""What a variable bitrate can reach on the hardest music, by coding (ISO 11172-3, from memory)."""


def check_acceptance(recipe: Recipe, accepts: Sequence[Accepts], where: str) -> None:
    """Whatever a recipe makes must pass what its target says it accepts. Raises TargetError, which begins with where."""
    encoding = encoding_for(recipe.encoding)
    rows = [row for row in accepts if row.codec == encoding.codec and encoding.read_container in row.containers]
    if not rows:
        raise TargetError(f"{where}: it makes {encoding.label}, which it does not accept. Add that to what it accepts.")
    for shape in recipe_shapes(recipe):
        reasons = [_refused(recipe, shape, row) for row in rows]
        if all(reasons):
            raise TargetError(f"{where}: what it makes is not what it accepts: {reasons[0]}. Change one of the two.")


def _refused(recipe: Recipe, shape: SoundShape, row: Accepts) -> str:
    """What a row objects to in a result of a shape; "" for nothing."""
    settings, most = recipe.settings, row.max_bitrate_kbps
    if row.sample_rates and shape.sample_rate not in row.sample_rates:
        return f"{shape.sample_rate} Hz"
    if row.channels and shape.channels not in row.channels:
        return f"{shape.channels} channels"
    if row.bit_depths and shape.depth_bits and shape.depth_bits not in row.bit_depths:
        return f"{shape.depth_bits} bit"
    if row.modes and settings.mode and settings.mode not in row.modes:
        return f"a {settings.mode} bitrate"
    if most is None:
        return ""
    kbps = float(settings.bitrate_kbps or 0)
    if settings.mode == "average":
        kbps *= _AVERAGE_STRAYS
    elif settings.mode == "variable":
        kbps = _MOST_VARIABLE_KBPS.get(row.codec, 0)
    return f"up to {kbps:g} kbit/s, where it accepts {most}" if kbps > most else ""
