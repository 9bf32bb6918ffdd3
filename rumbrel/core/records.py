"""Values as JSON and back: one serialiser for all frozen dataclasses, so that no field is forgotten."""

import dataclasses
import types
import typing
from collections.abc import Callable, Mapping
from enum import Enum
from functools import cache
from pathlib import Path
from typing import Any, TypeVar, Union

__all__ = ["as_record", "from_record"]

Value = TypeVar("Value")


def as_record(value: Any) -> Any:
    """What JSON can hold of a value: dataclasses and mappings as objects, tuples as lists, enums as their
    values, paths as text. Bytes are left out of their object: a record is for reading, not for carrying."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        names = (field.name for field in dataclasses.fields(value))
        return {name: as_record(part) for name in names if not isinstance(part := getattr(value, name), bytes)}
    if isinstance(value, Mapping):
        return {str(key): as_record(part) for key, part in value.items()}
    if isinstance(value, (tuple, list, frozenset)):
        return [as_record(part) for part in value]
    if isinstance(value, Enum):
        return value.value
    return str(value) if isinstance(value, Path) else value


def from_record(kind: type[Value], record: Mapping[str, Any]) -> Value:
    """The value that as_record made a record of. Keys it does not know are passed over, missing ones take
    their defaults. Raises TypeError, ValueError or KeyError for a record of something else."""
    value: Value = _of_dataclass(kind)(record)  # type: ignore[arg-type]
    return value


Restore = Callable[[Any], Any]


@cache
def _of_dataclass(kind: Any) -> Restore:
    """How records of a dataclass are read; worked out once, since there are very many of them."""
    hints = typing.get_type_hints(kind)
    names = [field.name for field in dataclasses.fields(kind) if field.init]
    parts = [(name, _of_hint(hints[name])) for name in names]
    plain = frozenset(name for name, restore in parts if restore is None)
    others = [(name, restore) for name, restore in parts if restore is not None]

    def restored(record: Mapping[str, Any]) -> Any:
        values = {name: part for name, part in record.items() if name in plain}
        for name, restore in others:
            if name in record:
                values[name] = restore(record[name])
        return kind(**values)

    return restored


@cache
def _of_hint(hint: Any) -> Restore | None:
    """How a part of some type is read; None where JSON holds it as it is."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (Union, types.UnionType):
        within = _of_hint(next(each for each in inner if each is not type(None)))
        return within and (lambda part: None if part is None else within(part))
    if origin is tuple:
        return _of_tuple(inner)
    if origin is not None and issubclass(origin, Mapping):
        values = _of_hint(inner[1])
        return (lambda part: {key: values(each) for key, each in part.items()}) if values else dict
    if dataclasses.is_dataclass(hint):
        # Worked out when it is met: a dataclass may hold one of its own kind.
        return lambda part: _of_dataclass(hint)(part)  # type: ignore[arg-type]
    if isinstance(hint, type) and issubclass(hint, (Enum, Path)):
        return hint
    # JSON of other writers may state a whole number where we mean a float.
    return float if hint is float else None


def _of_tuple(inner: tuple[Any, ...]) -> Restore:
    if inner[-1] is Ellipsis:
        each = _of_hint(inner[0])
        return (lambda part: tuple(map(each, part))) if each else tuple
    parts = [_of_hint(hint) or (lambda value: value) for hint in inner]
    return lambda part: tuple(restore(value) for restore, value in zip(parts, part, strict=True))
