"""A target as a value."""

from dataclasses import dataclass
from typing import Any

from rumbrel.core.formats.settings import EncoderSettings
from rumbrel.core.formats.table import kind_label

__all__ = ["Accepts", "Recipe", "Target"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Accepts:
    """One kind of file that plays as it is. An empty tuple or None sets no limit.

    sample_rates in Hz, bitrates in units of 1000 bits/s.
    """

    codec: str
    containers: tuple[str, ...]
    sample_rates: tuple[int, ...] = ()
    bit_depths: tuple[int, ...] = ()
    channels: tuple[int, ...] = ()
    bitrates_kbps: tuple[int, ...] = ()
    max_bitrate_kbps: int | None = None
    modes: tuple[str, ...] = ()
    channel_modes: tuple[str, ...] = ()
    video: bool = False

    @property
    def kind(self) -> str:
        return kind_label(self.containers[0], self.codec)

    def as_record(self) -> dict[str, Any]:
        return {
            "codec": self.codec,
            "containers": list(self.containers),
            "sample_rates": list(self.sample_rates),
            "bit_depths": list(self.bit_depths),
            "channels": list(self.channels),
            "bitrates_kbps": list(self.bitrates_kbps),
            "max_bitrate_kbps": self.max_bitrate_kbps,
            "modes": list(self.modes),
            "channel_modes": list(self.channel_modes),
        }


@dataclass(frozen=True, slots=True, kw_only=True)
class Recipe:
    """What is made when a track must be converted.

    A source's rate, depth and channel count are kept where they are listed; otherwise the nearest
    listed value is taken (planning.py says how). highpass_hz is a corner frequency in Hz.
    """

    encoding: str
    sample_rates: tuple[int, ...]
    bit_depths: tuple[int, ...]
    channels: tuple[int, ...]
    settings: EncoderSettings
    highpass_hz: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """slug is the word commands use; device is how sentences call it ("the car takes ...")."""

    slug: str
    name: str
    about: str
    device: str
    accepts: tuple[Accepts, ...]
    make: Recipe

    def as_record(self) -> dict[str, Any]:
        settings = self.make.settings
        return {
            "slug": self.slug,
            "name": self.name,
            "about": self.about,
            "accepts": [row.as_record() for row in self.accepts],
            "makes": {
                "encoding": self.make.encoding,
                "mode": settings.mode,
                "bitrate_kbps": settings.bitrate_kbps,
                "sample_rates": list(self.make.sample_rates),
                "bit_depths": list(self.make.bit_depths),
                "channels": list(self.make.channels),
                "highpass_hz": self.make.highpass_hz,
            },
        }
