"""Patterns for names: Python's format syntax over tags and facts, and nothing else of it."""

import string
from collections.abc import Iterable, Mapping

from rumbrel.core.errors import TargetError
from rumbrel.core.tags.mapping import PATTERN_NAMES, field_in_pattern

__all__ = ["PATTERN_FIELDS", "check_pattern", "empty_fields", "filled_pattern"]

_FACTS = (
    "stem",
    "folder",
    "container",
    "codec",
    "sample_rate",
    "bit_depth",
    "channels",
    "bitrate_kbps",
    "target",
    "number",
)
PATTERN_FIELDS: tuple[str, ...] = (*PATTERN_NAMES, *_FACTS)
_LONGEST_PATTERN = 300
_WIDEST = 50


def check_pattern(pattern: str) -> None:
    """Raise TargetError naming what is wrong: a field nobody has, a step into a value, a bad width."""
    if len(pattern) > _LONGEST_PATTERN:
        raise TargetError(f"The pattern is longer than {_LONGEST_PATTERN} characters.")
    try:
        pieces = list(string.Formatter().parse(pattern))
    except ValueError as error:
        raise TargetError(f"The pattern '{pattern}' cannot be read: {error}. Write fields as {{album}}.") from error
    names = [name for _, name, _, _ in pieces if name is not None]
    if not names:
        raise TargetError("The pattern names no field, so every result would have one name. Add {title}, say.")
    for name in names:
        if name not in PATTERN_FIELDS:
            raise TargetError(f"The pattern has no field '{name}'. It has {', '.join(PATTERN_FIELDS)}.")
    for _, _, spec, conversion in pieces:
        digits = "".join(sign for sign in spec or "" if sign.isdigit())
        if conversion or "{" in (spec or "") or (digits and int(digits) > _WIDEST):
            raise TargetError(f"The pattern's '{spec}' is not a width of at most {_WIDEST}.")
    if any(part in ("", ".", "..") for part in pattern.split("/")):
        raise TargetError("The pattern has an empty folder, or one of dots.")
    filled_pattern(pattern, {name: 1 if name in _NUMBERS else "a" for name in PATTERN_FIELDS})


_NUMBERS = frozenset({"track", "disc", "number", "sample_rate", "bit_depth", "channels", "bitrate_kbps"})


class _Absent(str):
    """A value that is not there: nothing, whatever the width asked for."""

    __slots__ = ()

    def __format__(self, spec: str) -> str:
        return ""


def empty_fields(pattern: str, sources: Iterable[Mapping[str, object]]) -> tuple[str, ...]:
    """The names of a pattern that stand for tags which none of the sources has. sources are their fields."""
    named = [name for _, name, _, _ in string.Formatter().parse(pattern) if name in PATTERN_NAMES and name != "title"]
    there: set[str] = set()
    for fields in sources:
        there.update(fields)
    return tuple(dict.fromkeys(name for name in named if field_in_pattern(name) not in there))


def filled_pattern(pattern: str, values: Mapping[str, str | int | None]) -> tuple[str, ...]:
    """The folders and the name, each still as written: places clean them. Raises TargetError.

    A slash in a value is no folder. Folders that come out empty are left away.
    """
    meant = {name: values.get(field_in_pattern(name)) for name in PATTERN_FIELDS}
    safe = {name: _Absent() if value in (None, "") else value for name, value in meant.items()}
    flat = {name: value.replace("/", "-") if type(value) is str else value for name, value in safe.items()}
    try:
        parts = [string.Formatter().vformat(part, (), flat).strip() for part in pattern.split("/")]
    except (ValueError, KeyError, IndexError, AttributeError) as error:
        raise TargetError(f"The pattern '{pattern}' cannot be filled: {error}.") from error
    kept = [part for part in parts[:-1] if part and set(part) != {"."}]
    return (*kept, parts[-1] or str(values.get("stem") or "untitled"))
