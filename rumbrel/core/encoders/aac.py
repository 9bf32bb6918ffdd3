"""AAC low complexity in M4A and bare in ADTS, by FFmpeg's encoder."""

from pathlib import Path

from rumbrel.core.sound.shape import SoundShape

from .framed import FramedEncoder, FramedPlan
from .settings import EncoderSettings

__all__ = ["open_aac", "open_adts"]


def open_aac(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    """The movie timescale is the sample rate, so that the edit list states the length to the sample.

    With FFmpeg's default of 1/1000 s a player could be out by up to 44 samples at the end.
    """
    muxer_options = {"brand": "M4A ", "movflags": "+faststart", "movie_timescale": str(shape.sample_rate)}
    return FramedEncoder(path, shape, _plan("mp4", shape, settings, muxer_options))


def open_adts(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    """Frames alone: nothing states the encoder's delay, so the sound begins 1,024 samples late."""
    return FramedEncoder(path, shape, _plan("adts", shape, settings, {}))


def _plan(muxer: str, shape: SoundShape, settings: EncoderSettings, muxer_options: dict[str, str]) -> FramedPlan:
    return FramedPlan(
        muxer=muxer,
        codec="aac",
        sample_format="fltp",
        bitrate_bps=(settings.bitrate_kbps or 96 * shape.channels) * 1000,
        codec_options={"aac_coder": "fast" if settings.effort == 0 else "twoloop"},
        muxer_options=muxer_options,
    )
