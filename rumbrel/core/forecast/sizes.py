"""How large a result will be."""

import math
from dataclasses import replace

from rumbrel.core.encoders.encodings import Encoding
from rumbrel.core.encoders.mp3 import constant_stream_bytes, default_bitrate_kbps
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.formats.table import codec_row, container_row
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment

from .steps import After

__all__ = ["after_conversion", "after_copy", "after_rewrap"]

# Common practice: shares of the PCM bitrate that a lossless coding needs for most music, in the middle and at the ends.
_LOSSLESS_SHARES = (0.02, 0.6, 1.01)
# How far an average or variable bitrate strays from what was asked for.
_STRAYS = {"average": 0.3, "variable": 0.8}
_USUAL_KBPS_A_CHANNEL = 96
"""Where neither target nor codec states a bitrate."""
_G711_HEADER_BYTES = 58


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
        least_bytes=facts.size_bytes,
        most_bytes=facts.size_bytes,
    )


def after_rewrap(facts: Facts, container: str) -> After:
    """The same coded sound in another container: its bitrate for its length, and a little for the frame."""
    size = round(facts.bitrate_bps / 8 * facts.duration_seconds)
    return replace(
        after_copy(facts), container=container, size_bytes=size, size_exact=False,
        least_bytes=round(size * 0.9), most_bytes=round(size * 1.1) + 65_536,
    )  # fmt: skip


def planned_samples(facts: Facts, shape: SoundShape, treatment: Treatment) -> int:
    """Samples of the result: those left of the source after trimming, at the new rate."""
    end = facts.samples if treatment.end_sample is None else treatment.end_sample
    return round((end - treatment.start_sample) * shape.sample_rate / facts.sample_rate)


def after_conversion(
    facts: Facts, encoding: Encoding, shape: SoundShape, settings: EncoderSettings, treatment: Treatment
) -> After:
    """Size of the sound itself, exact for PCM and constant bitrate; tags and covers come on top."""
    samples = planned_samples(facts, shape, treatment)
    seconds = samples / shape.sample_rate
    bitrate, low, high = _bitrates(facts, encoding, shape, settings)
    size, exact = round(bitrate / 8 * seconds), False
    if encoding.codec == "mp3" and settings.mode in (None, "constant"):
        size, exact = constant_stream_bytes(samples, shape.sample_rate, bitrate // 1000, channels=shape.channels), True
    elif low == high and encoding.slack_samples <= 1 and container_row(encoding.container).header_bytes is not None:
        size, exact = _plain_bytes(samples, encoding, shape), True
    return After(
        container=encoding.read_container,
        codec=encoding.codec,
        sample_rate=shape.sample_rate,
        bit_depth=shape.depth_bits if encoding.lossless and shape.depth_bits else None,
        channels=shape.channels,
        samples=samples,
        bitrate_bps=bitrate,
        size_bytes=size,
        size_exact=exact,
        lossless=encoding.lossless,
        least_bytes=size if exact else math.floor(low / 8 * seconds),
        most_bytes=size if exact else math.ceil(high / 8 * seconds) + 16_384,
    )


def _plain_bytes(samples: int, encoding: Encoding, shape: SoundShape) -> int:
    sound = math.ceil(samples * shape.channels * (encoding.coded_bits or shape.depth_bits) / 8)
    row = container_row(encoding.container)
    if encoding.codec == "pcm-float" and row.float_header_bytes is not None:
        base, each = row.float_header_bytes
        header = base + each * shape.channels
    elif encoding.codec in ("mu-law", "a-law"):
        header = _G711_HEADER_BYTES
    else:
        header = row.header_bytes or 0
    return sound + sound % 2 * row.even + header


def _bitrates(
    facts: Facts, encoding: Encoding, shape: SoundShape, settings: EncoderSettings
) -> tuple[int, float, float]:
    """(expected, least, most) bits/s; all equal where nothing varies."""
    pcm = shape.sample_rate * shape.channels * (encoding.coded_bits or shape.depth_bits or 32)
    if encoding.codec in ("pcm", "pcm-float") or encoding.coded_bits:
        return pcm, pcm, pcm
    if encoding.codec == "gsm":
        return 13_000, 13_000, 13_000
    if encoding.lossless:
        low, middle, high = (pcm * share for share in _LOSSLESS_SHARES)
        own = facts.bitrate_bps if facts.lossless and facts.bitrate_mode == "variable" else 0
        return min(pcm, round(own or middle)), low, high
    if encoding.codec == "mp3" and settings.mode in (None, "constant"):
        constant = (settings.bitrate_kbps or default_bitrate_kbps(shape.sample_rate)) * 1000
        return constant, constant, constant
    expected = (
        settings.bitrate_kbps or (codec_row(encoding.codec).kbps_a_channel or _USUAL_KBPS_A_CHANNEL) * shape.channels
    ) * 1000
    mode = settings.mode or encoding.modes[0]
    stray = _STRAYS.get(mode, 0.02)
    return expected, expected * (1 - stray), expected * (1 + stray)
