"""A target as a value."""

from dataclasses import dataclass, field
from typing import Any

from rumbrel.core.formats.settings import EncoderSettings
from rumbrel.core.formats.table import kind_label
from rumbrel.core.tags.rules import TagRules

__all__ = ["Accepts", "LevelRule", "NameRule", "PlaylistRule", "Recipe", "Target"]


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
class LevelRule:
    """mode is "none", "track" (each brought to the loudness), "album" (an album's tracks keep their
    relation) or "tags" (samples unchanged, gain stated in tags). The ceiling holds for true peaks."""

    mode: str = "none"
    loudness_lufs: float = -18.0
    ceiling_dbtp: float = -1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class NameRule:
    """pattern is empty for the mirrored tree. longest counts as the file system counts names."""

    pattern: str = ""
    file_system: str = "native"
    longest: int | None = None


NO_LISTS = "none"


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaylistRule:
    """kind is "none", "m3u8" or "m3u"; folder_each puts every playlist into a folder of its own."""

    kind: str = "m3u8"
    folder_each: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """slug is the word commands use; device is how sentences call it ("the car takes ...").

    strict says that nothing passes as it is that is not exactly what is accepted: no tolerance in
    bitrates, and no fault, even a harmless one.
    """

    slug: str
    name: str
    about: str
    device: str
    accepts: tuple[Accepts, ...]
    make: Recipe
    tags: TagRules = field(default_factory=TagRules)
    level: LevelRule = field(default_factory=LevelRule)
    names: NameRule = field(default_factory=NameRule)
    playlists: PlaylistRule = field(default_factory=PlaylistRule)
    strict: bool = False

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
                "quality": settings.quality,
                "effort": settings.effort,
                "sample_rates": list(self.make.sample_rates),
                "bit_depths": list(self.make.bit_depths),
                "channels": list(self.make.channels),
                "highpass_hz": self.make.highpass_hz,
            },
            "level": {
                "mode": self.level.mode,
                "loudness_lufs": self.level.loudness_lufs,
                "ceiling_dbtp": self.level.ceiling_dbtp,
            },
            "file_system": self.names.file_system,
            "playlists": {"kind": self.playlists.kind, "folder_each": self.playlists.folder_each},
            "strict": self.strict,
        }
