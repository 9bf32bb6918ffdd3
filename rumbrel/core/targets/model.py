"""A target as a value."""

from dataclasses import dataclass, field
from typing import Any

from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.formats.table import format_label
from rumbrel.core.records import as_record
from rumbrel.core.sound.dither import FLAT
from rumbrel.core.tags.rules import TagRules

__all__ = [
    "BITRATE_MODES",
    "CHANNEL_MODES",
    "Accepts",
    "LevelRule",
    "NameRule",
    "PlayerRule",
    "PlaylistRule",
    "Recipe",
    "Target",
]


BITRATE_MODES = ("constant", "average", "variable")
CHANNEL_MODES = ("stereo", "joint stereo", "dual channel", "mono")


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
    def format(self) -> str:
        """What a practitioner calls such a file."""
        return format_label(self.containers[0], self.codec)


@dataclass(frozen=True, slots=True, kw_only=True)
class Recipe:
    """What is made when a track must be converted.

    A source's rate, depth and channel count are kept where they are listed; otherwise the nearest
    listed value is taken (planning.py says how). highpass_hz is a corner frequency in Hz. dither is
    one of DITHERS, for where bits are lost.
    """

    encoding: str
    sample_rates: tuple[int, ...]
    bit_depths: tuple[int, ...]
    channels: tuple[int, ...]
    settings: EncoderSettings
    highpass_hz: float | None = None
    # Marks of results that were made before there was a choice stay true: work_mark adds any other than the usual.
    dither: str = field(default=FLAT, repr=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelRule:
    """mode is "none", "track" (each brought to the loudness), "album" (an album's tracks keep their
    relation) or "tags" (samples unchanged, gain stated in tags). The ceiling holds for true peaks: what the
    loudness would lift above it is turned down as a whole, or limited with limits."""

    mode: str = "none"
    loudness_lufs: float = -18.0
    ceiling_dbtp: float = -1.0
    limits: bool = False


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
class PlayerRule:
    """How a device plays a stick or card. Empty or None sets no limit.

    file_systems are the keys of those it reads, largest_volume_gb (10^9 bytes) the largest volume. order is
    "written" (as the entries of each folder were written) or "names"; shows is what its display shows of a track,
    "tags" or "names", at most display_signs of it.
    """

    file_systems: tuple[str, ...] = ()
    largest_volume_gb: int | None = None
    deepest_folders: int | None = None
    most_in_folder: int | None = None
    most_tracks: int | None = None
    order: str = "written"
    shows: str = "tags"
    display_signs: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """slug is the word commands use; device is how sentences call it ("the car takes ..."), verb what it
    does with a file that suits it: it plays one, or accepts one.

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
    # What the device does with finished files makes no other files: marks of results are made without it.
    player: PlayerRule = field(default_factory=PlayerRule, repr=False)
    strict: bool = False
    verb: str = "plays"

    def as_record(self) -> dict[str, Any]:
        """Every field, by the same names, nested as the values are."""
        record: dict[str, Any] = as_record(self)
        return record
