"""What a target may ask of an encoder, as one value."""

from dataclasses import dataclass

__all__ = ["EncoderSettings"]


@dataclass(frozen=True, slots=True, kw_only=True)
class EncoderSettings:
    """None leaves the choice to the encoding.

    bitrate_kbps in units of 1000 bits/s. quality is 0.0 to 1.0 where a mode is led by quality.
    effort is the encoder's own step of diligence against speed (MP3: 0 slowest to 9 fastest;
    FLAC: 0 fastest to 8 slowest; AAC: 0 quick search, 1 thorough search; Opus: 0 fastest to 10
    slowest; WavPack: 0 fastest to 8 slowest).
    """

    mode: str | None = None
    bitrate_kbps: int | None = None
    quality: float | None = None
    effort: int | None = None
    joint_stereo: bool | None = None
