"""From a Target to TOML, as parsing.py reads it."""

from typing import Any

import tomli_w

from rumbrel.core.sound.dither import FLAT

from .model import Accepts, LevelRule, NameRule, PlayerRule, PlaylistRule, Recipe, Target

__all__ = ["target_toml"]


def target_toml(target: Target) -> str:
    """The description of a target: read again, it is the same target, but for its slug, which the file's name says."""
    tags, level, names, lists = target.tags, target.level, target.names, target.playlists
    usual_lists = PlaylistRule(kind="none", folder_each=True) if lists.folder_each else PlaylistRule()
    tables: dict[str, dict[str, Any]] = {
        "tags": {
            "id3": "2.3" if tags.id3_version == 3 else None,
            "covers": tags.covers if tags.covers != "all" else None,
            "cover_pixels": tags.cover_pixels,
            "cover_bytes": tags.cover_bytes,
            "keep": tags.keep,
        },
        "level": _others(level, LevelRule()),
        "names": _others(names, NameRule()),
        "playlists": {
            "kind": lists.kind if lists != usual_lists else None,
            "folder_each": lists.folder_each or None,
        },
        "player": _others(target.player, PlayerRule()),
    }
    record: dict[str, Any] = {
        "name": target.name,
        "about": target.about or None,
        "device": target.device if target.device != "the target" else None,
        "verb": target.verb if target.verb != "plays" else None,
        "strict": target.strict or None,
        "accepts": [_said(_accepts(row)) for row in target.accepts],
        "make": _said(_make(target.make)),
    }
    return tomli_w.dumps(_said(record) | {key: said for key, table in tables.items() if (said := _said(table))})


def _accepts(row: Accepts) -> dict[str, Any]:
    return {name: getattr(row, name) for name in Accepts.__slots__} | {"video": row.video or None}


def _make(recipe: Recipe) -> dict[str, Any]:
    settings = recipe.settings
    return {
        "encoding": recipe.encoding,
        "mode": settings.mode,
        "bitrate_kbps": settings.bitrate_kbps,
        "quality": settings.quality,
        "effort": settings.effort,
        "joint_stereo": settings.joint_stereo,
        "sample_rates": recipe.sample_rates,
        "bit_depths": recipe.bit_depths,
        "channels": recipe.channels,
        "highpass_hz": recipe.highpass_hz,
        "dither": recipe.dither if recipe.dither != FLAT else None,
    }


def _others(rule: LevelRule | NameRule | PlayerRule, usual: LevelRule | NameRule | PlayerRule) -> dict[str, Any]:
    """What a rule says otherwise than the usual one."""
    values = ((name, getattr(rule, name)) for name in type(rule).__slots__)
    return {name: value for name, value in values if value != getattr(usual, name)}


def _said(record: dict[str, Any]) -> dict[str, Any]:
    """Without what sets no limit; tuples as lists."""
    kept = {key: list(value) if isinstance(value, tuple) else value for key, value in record.items()}
    return {key: value for key, value in kept.items() if value is not None and value != []}
