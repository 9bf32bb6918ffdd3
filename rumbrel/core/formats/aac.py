"""AAC low complexity in M4A, by FFmpeg's encoder."""

from pathlib import Path

from rumbrel.core.sound.shape import SoundShape

from .framed import FramedEncoder, FramedPlan
from .settings import EncoderSettings

__all__ = ["open_aac"]


def open_aac(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    """The movie timescale is the sample rate, so that the edit list states the length to the sample.

    With FFmpeg's default of 1/1000 s a player could be out by up to 44 samples at the end.
    """
    bitrate_kbps = settings.bitrate_kbps or 96 * shape.channels
    plan = FramedPlan(
        muxer="mp4",
        codec="aac",
        sample_format="fltp",
        bitrate_bps=bitrate_kbps * 1000,
        codec_options={"aac_coder": "fast" if settings.effort == 0 else "twoloop"},
        muxer_options={"brand": "M4A ", "movflags": "+faststart", "movie_timescale": str(shape.sample_rate)},
    )
    return FramedEncoder(path, shape, plan)
