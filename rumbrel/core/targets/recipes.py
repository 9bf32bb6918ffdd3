"""What a recipe can ask of its encoding."""

from rumbrel.core.encoders.encodings import Encoding, encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import EncodeError, TargetError
from rumbrel.core.sound.shape import SoundShape

from .model import Recipe
from .planning import recipe_shapes

__all__ = ["check_recipe", "possible_rates"]


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
    try:
        encoding.check_settings(recipe.settings)
        for shape in recipe_shapes(recipe):
            encoding.check_request(shape, recipe.settings)
    except EncodeError as error:
        raise TargetError(f"{where}: {error}") from error
