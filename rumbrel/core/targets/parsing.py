"""From TOML to a Target. Every refusal names the key, the value and what is allowed."""

import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from rumbrel.core.encoders.encodings import ENCODINGS, encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import TargetError
from rumbrel.core.formats.table import CODECS, CONTAINERS
from rumbrel.core.places import FILE_SYSTEMS
from rumbrel.core.sound.dither import DITHERS, FLAT
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.tags.rules import TagRules

from .model import (
    BITRATE_MODES,
    CHANNEL_MODES,
    NO_LISTS,
    Accepts,
    LevelRule,
    NameRule,
    PlayerRule,
    PlaylistRule,
    Recipe,
    Target,
)
from .pattern import check_pattern
from .recipes import check_acceptance, check_recipe, possible_rates

__all__ = ["parse_target", "read_target"]

_LARGEST_FILE_BYTES = 256 * 1024
_SLUG = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*")


class _Table:
    """A TOML table that says which key is wrong and notices keys nobody asked for."""

    def __init__(self, values: object, where: str) -> None:
        if not isinstance(values, dict):
            raise TargetError(f"{where} must be a table of keys and values.")
        self._values: Mapping[str, Any] = values
        self._where = where
        self._asked: set[str] = set()

    def _take(self, key: str, kind: type | tuple[type, ...], what: str, default: Any) -> Any:
        self._asked.add(key)
        if key not in self._values:
            if default is _REQUIRED:
                raise TargetError(f"{self._where} has no key '{key}'. Add {what}.")
            return default
        value = self._values[key]
        if not isinstance(value, kind) or (isinstance(value, bool) and kind is not bool):
            raise TargetError(f"{self._where}: '{key}' is {value!r}. It must be {what}.")
        return value

    def text(self, key: str, default: Any = None) -> str:
        value = str(self._take(key, str, "a text", _REQUIRED if default is None else default))
        if len(value) > 500 or any(ord(sign) < 32 for sign in value):
            raise TargetError(f"{self._where}: '{key}' must be one line of at most 500 characters.")
        return value

    def choice(self, key: str, allowed: tuple[str, ...], default: Any = None) -> Any:
        value = self._take(key, str, f"one of {', '.join(allowed)}", default)
        if value is not None and value is not _REQUIRED and value not in allowed:
            raise TargetError(f"{self._where}: '{key}' is '{value}'. It must be one of {', '.join(allowed)}.")
        return value

    def number(self, key: str, low: float, high: float, kind: type | tuple[type, ...] = int) -> Any:
        what = f"a number from {low:g} to {high:g}"
        value = self._take(key, kind, what, None)
        if value is not None and not low <= value <= high:
            raise TargetError(f"{self._where}: '{key}' is {value!r}. It must be {what}.")
        return value

    def flag(self, key: str) -> bool | None:
        value: bool | None = self._take(key, bool, "true or false", None)
        return value

    def numbers(self, key: str, low: int, high: int, default: Any = ()) -> tuple[int, ...]:
        what = f"a list of whole numbers from {low} to {high}"
        values = self._take(key, list, what, default)
        for value in values:
            if not isinstance(value, int) or isinstance(value, bool) or not low <= value <= high:
                raise TargetError(f"{self._where}: '{key}' holds {value!r}. It must be {what}.")
        return tuple(values)

    def texts(self, key: str, allowed: tuple[str, ...], default: Any = ()) -> tuple[str, ...]:
        values = self._take(key, list, f"a list of {', '.join(allowed)}", default)
        for value in values:
            if value not in allowed:
                raise TargetError(f"{self._where}: '{key}' holds {value!r}. It must be one of {', '.join(allowed)}.")
        return tuple(values)

    def table(self, key: str) -> "_Table":
        """A table that may be left out."""
        self._asked.add(key)
        return _Table(self._values.get(key, {}), f"{self._where}, {key}")

    def rest(self, key: str) -> Any:
        self._asked.add(key)
        if key not in self._values:
            raise TargetError(f"{self._where} has no '{key}'. Add it; docs/targets.md shows how.")
        return self._values[key]

    def no_more(self) -> None:
        unknown = sorted(set(self._values) - self._asked)
        if unknown:
            raise TargetError(
                f"{self._where} has an unknown key '{unknown[0]}'. Known are {', '.join(sorted(self._asked))}."
            )


_REQUIRED: Any = object()
_CODEC_KEYS = tuple(row.key for row in CODECS)
_CONTAINER_KEYS = tuple(row.key for row in CONTAINERS)
_ENCODING_KEYS = tuple(row.key for row in ENCODINGS)


def _accepts(values: object, where: str) -> Accepts:
    table = _Table(values, where)
    row = Accepts(
        codec=table.choice("codec", _CODEC_KEYS, _REQUIRED),
        containers=table.texts("containers", _CONTAINER_KEYS, _REQUIRED),
        sample_rates=table.numbers("sample_rates", 1000, 768_000),
        bit_depths=table.numbers("bit_depths", 1, 64),
        channels=table.numbers("channels", 1, 64),
        bitrates_kbps=table.numbers("bitrates_kbps", 1, 100_000),
        max_bitrate_kbps=table.number("max_bitrate_kbps", 1, 100_000),
        modes=table.texts("modes", BITRATE_MODES),
        channel_modes=table.texts("channel_modes", CHANNEL_MODES),
        video=bool(table.flag("video")),
    )
    if not row.containers:
        raise TargetError(f"{where}: 'containers' is empty. Name at least one of {', '.join(_CONTAINER_KEYS)}.")
    table.no_more()
    return row


def _recipe(values: object, where: str) -> Recipe:
    table = _Table(values, where)
    encoding = encoding_for(table.choice("encoding", _ENCODING_KEYS, _REQUIRED))
    settings = EncoderSettings(
        mode=table.choice("mode", BITRATE_MODES),
        bitrate_kbps=table.number("bitrate_kbps", 1, 10_000),
        quality=table.number("quality", 0.0, 1.0, (int, float)),
        effort=table.number("effort", 0, 12),
        joint_stereo=table.flag("joint_stereo"),
    )
    recipe = Recipe(
        encoding=encoding.key,
        sample_rates=table.numbers("sample_rates", 1000, 768_000) or possible_rates(encoding, settings),
        bit_depths=table.numbers("bit_depths", 8, 32) or encoding.depths,
        channels=table.numbers("channels", 1, 64) or encoding.channel_counts,
        settings=settings,
        highpass_hz=table.number("highpass_hz", 1, 2000, (int, float)),
        dither=table.choice("dither", tuple(DITHERS), FLAT),
    )
    table.no_more()
    check_recipe(recipe, where)
    return recipe


def _tag_rules(table: _Table) -> TagRules:
    rules = TagRules(
        id3_version=4 if table.choice("id3", ("2.3", "2.4"), "2.4") == "2.4" else 3,
        covers=table.choice("covers", ("all", "front", "none"), "all"),
        cover_pixels=table.number("cover_pixels", 16, 10_000),
        cover_bytes=table.number("cover_bytes", 1_000, 16_000_000),
        keep=table.texts("keep", tuple(row.name for row in FIELDS)),
    )
    table.no_more()
    return rules


def _level_rule(table: _Table) -> LevelRule:
    standard = LevelRule()
    loudness = table.number("loudness_lufs", -40, -5, (int, float))
    ceiling = table.number("ceiling_dbtp", -20, 0, (int, float))
    rule = LevelRule(
        mode=table.choice("mode", ("none", "track", "album", "tags"), "none"),
        loudness_lufs=standard.loudness_lufs if loudness is None else float(loudness),
        ceiling_dbtp=standard.ceiling_dbtp if ceiling is None else float(ceiling),
        limits=bool(table.flag("limits")),
    )
    table.no_more()
    return rule


def _name_rule(table: _Table) -> NameRule:
    rule = NameRule(
        pattern=table.text("pattern", ""),
        file_system=table.choice("file_system", tuple(row.key for row in FILE_SYSTEMS), "native"),
        longest=table.number("longest", 8, 255),
    )
    table.no_more()
    if rule.pattern:
        check_pattern(rule.pattern)
    return rule


def _playlist_rule(table: _Table) -> PlaylistRule:
    folder_each = bool(table.flag("folder_each"))
    # Players that want folders know no lists, unless the target says that this one does.
    usual = NO_LISTS if folder_each else "m3u8"
    rule = PlaylistRule(kind=table.choice("kind", ("m3u8", "m3u", NO_LISTS), usual), folder_each=folder_each)
    table.no_more()
    return rule


def _player_rule(table: _Table) -> PlayerRule:
    rule = PlayerRule(
        file_systems=table.texts("file_systems", tuple(row.key for row in FILE_SYSTEMS)),
        largest_volume_gb=table.number("largest_volume_gb", 1, 100_000),
        deepest_folders=table.number("deepest_folders", 0, 100),
        most_in_folder=table.number("most_in_folder", 1, 1_000_000),
        most_tracks=table.number("most_tracks", 1, 10_000_000),
        order=table.choice("order", ("written", "names"), "written"),
        shows=table.choice("shows", ("tags", "names"), "tags"),
        display_signs=table.number("display_signs", 8, 500),
    )
    table.no_more()
    return rule


def parse_target(text: str, *, slug: str) -> Target:
    """Read a target's TOML. Raises TargetError with the key, the value and the remedy."""
    if not _SLUG.fullmatch(slug):
        raise TargetError(f"'{slug}' is not a name for a target. Use small letters, digits and single hyphens.")
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise TargetError(f"Target {slug} is not valid TOML: {error}.") from error
    table = _Table(values, f"Target {slug}")
    rows = table.rest("accepts")
    if not isinstance(rows, list) or not rows:
        raise TargetError(f"Target {slug}: 'accepts' must be one or more [[accepts]] tables.")
    target = Target(
        slug=slug,
        name=table.text("name"),
        about=table.text("about", ""),
        device=table.text("device", "the target"),
        accepts=tuple(_accepts(row, f"Target {slug}, accepts {number}") for number, row in enumerate(rows, 1)),
        make=_recipe(table.rest("make"), f"Target {slug}, make"),
        tags=_tag_rules(table.table("tags")),
        level=_level_rule(table.table("level")),
        names=_name_rule(table.table("names")),
        playlists=_playlist_rule(table.table("playlists")),
        player=_player_rule(table.table("player")),
        strict=bool(table.flag("strict")),
        verb=table.choice("verb", ("plays", "accepts"), "plays"),
    )
    table.no_more()
    check_acceptance(target.make, target.accepts, f"Target {slug}")
    return target


def read_target(path: Path) -> Target:
    """Read a target from a TOML file; its slug is the file's name."""

    try:
        if path.stat().st_size > _LARGEST_FILE_BYTES:
            raise TargetError(f"{path.name} is too large to be a target's description.")
        text = path.read_text(encoding="utf-8")
    except OSError as error:
        raise TargetError(f"{path} cannot be read: {error.strerror}.") from error
    except UnicodeDecodeError as error:
        raise TargetError(f"{path.name} is not written in UTF-8.") from error
    return parse_target(text, slug=re.sub(r"[^a-z0-9]+", "-", path.stem.lower()).strip("-"))
