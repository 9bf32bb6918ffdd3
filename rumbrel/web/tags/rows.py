"""Fields and changes as the screen shows them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rumbrel.core.tags.mapping import row_for
from rumbrel.core.tags.wishes import NamedFile

from .forms import MAIN_FIELDS

__all__ = ["ChangeRow", "ChangedValue", "FieldRow", "change_rows", "changed_values", "field_rows"]

_LONGEST_SHOWN = 300


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldRow:
    """A field of several files: its value where all have the same, else how many values there are."""

    name: str
    label: str
    value: str
    values: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangedValue:
    """ "" is no value."""

    label: str
    before: str
    after: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeRow:
    name: str
    values: tuple[ChangedValue, ...]


def label_of(name: str) -> str:
    row = row_for(name)
    return row.label if row else name


def field_rows(files: Sequence[NamedFile]) -> list[FieldRow]:
    rows = []
    for name in MAIN_FIELDS:
        found = {file.fields.get(name, ()) for file in files}
        alike = "; ".join(next(iter(found))) if len(found) == 1 else ""
        rows.append(FieldRow(name=name, label=label_of(name), value=alike[:_LONGEST_SHOWN], values=len(found)))
    return rows


def changed_values(
    before: Mapping[str, Sequence[str]], change: Mapping[str, Sequence[str]]
) -> tuple[ChangedValue, ...]:
    """Every changed field with its value before and after."""
    return tuple(
        ChangedValue(
            label=label_of(name),
            before="; ".join(before.get(name, ()))[:_LONGEST_SHOWN],
            after="; ".join(values)[:_LONGEST_SHOWN],
        )
        for name, values in sorted(change.items(), key=lambda item: label_of(item[0]))
    )


def change_rows(files: Sequence[NamedFile], changes: Mapping[int, Mapping[str, Sequence[str]]]) -> list[ChangeRow]:
    return [
        ChangeRow(name=file.name, values=changed_values(file.fields, changes[file.id]))
        for file in files
        if file.id in changes
    ]
