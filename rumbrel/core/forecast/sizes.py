"""How large a result will be."""

from rumbrel.core.formats.encodings import Encoding
from rumbrel.core.formats.settings import EncoderSettings
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.shape import SoundShape

from .steps import After

__all__ = ["after_copy", "after_conversion"]

# Common practice: share of the PCM bitrate that a lossless coding needs for music on average.
_LOSSLESS_SHARE = 0.6
_VARIABLE_KBPS_A_CHANNEL = {"mp3": 95, "vorbis": 80, "opus": 64}
_WAV_HEADER_BYTES = 44


def after_copy(facts: Facts) -> After:
    """A copy is what its source is."""
    return After(
        container=facts.container,
        codec=facts.codec,
        sample_rate=facts.sample_rate,
        bit_depth=facts.bit_depth,
        channels=facts.channels,
        samples=facts.samples,
        bitrate_bps=facts.bitrate_bps,
        size_bytes=facts.size_bytes,
        size_exact=True,
        lossless=facts.lossless,
    )


def after_conversion(facts: Facts, encoding: Encoding, shape: SoundShape, settings: EncoderSettings) -> After:
    """Size of the sound itself, exact for PCM and constant bitrate; tags and covers come on top."""
    samples = round(facts.samples * shape.sample_rate / facts.sample_rate)
    seconds = samples / shape.sample_rate
    bitrate, exact = _bitrate(facts, encoding, shape, settings)
    return After(
        container=encoding.container,
        codec=encoding.codec,
        sample_rate=shape.sample_rate,
        bit_depth=shape.depth_bits if encoding.lossless else None,
        channels=shape.channels,
        samples=samples,
        bitrate_bps=bitrate,
        size_bytes=round(bitrate / 8 * seconds) + (_WAV_HEADER_BYTES if encoding.codec == "pcm" else 0),
        size_exact=exact,
        lossless=encoding.lossless,
    )


def _bitrate(facts: Facts, encoding: Encoding, shape: SoundShape, settings: EncoderSettings) -> tuple[int, bool]:
    """(bits/s, whether that is what the result will have to the byte)."""
    if encoding.codec in ("pcm", "mu-law", "a-law"):
        bits = 8 if encoding.codec != "pcm" else shape.depth_bits
        return shape.sample_rate * bits * shape.channels, True
    if encoding.lossless:
        pcm = shape.sample_rate * shape.depth_bits * shape.channels
        own = facts.bitrate_bps if facts.lossless and facts.bitrate_mode == "variable" else 0
        return min(pcm, round(own or pcm * _LOSSLESS_SHARE)), False
    if settings.bitrate_kbps:
        return settings.bitrate_kbps * 1000, settings.mode in (None, "constant") and encoding.codec == "mp3"
    return _VARIABLE_KBPS_A_CHANNEL.get(encoding.codec, 96) * shape.channels * 1000, False
