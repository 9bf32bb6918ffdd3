"""Fields and changes as the screen shows them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from rumbrel.core.tags.mapping import row_for
from rumbrel.core.tags.wishes import NamedFile

from .forms import MAIN_FIELDS

__all__ = [
    "Cell",
    "ChangeRow",
    "ChangedValue",
    "GridRow",
    "change_rows",
    "changed_values",
    "changes_record",
    "grid_columns",
    "grid_rows",
]

_LONGEST_SHOWN = 300


@dataclass(frozen=True, slots=True, kw_only=True)
class Cell:
    """A field of a file: text is its values as they are typed."""

    name: str
    label: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GridRow:
    """name is the file's, without the folders that it lies in."""

    id: int
    name: str
    folder: str
    cells: tuple[Cell, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangedValue:
    """ "" is no value."""

    label: str
    before: str
    after: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeRow:
    id: int
    name: str
    values: tuple[ChangedValue, ...]


def label_of(name: str) -> str:
    row = row_for(name)
    return row.label if row else name


_ALWAYS = ("title", "artist", "album", "track", "date", "genre")


def grid_columns(files: Sequence[NamedFile], extra: Sequence[str] = ()) -> list[tuple[str, str]]:
    """(name, label) of the grid's fields: the usual ones, as far as a file has them, and others that are asked for."""
    there = {name for file in files for name in file.fields}
    usual = [name for name in MAIN_FIELDS if name in _ALWAYS or name in there]
    return [(name, label_of(name)) for name in dict.fromkeys((*usual, *extra)) if row_for(name)]


def grid_rows(files: Sequence[NamedFile], columns: Sequence[tuple[str, str]]) -> list[GridRow]:
    return [
        GridRow(
            id=file.id, name=file.name.rpartition("/")[2], folder=file.name.rpartition("/")[0],
            cells=tuple(Cell(name=name, label=label, text=text_of(file.fields.get(name, ()))) for name, label in columns),
        ) for file in files
    ]  # fmt: skip


def text_of(values: Sequence[str]) -> str:
    return "; ".join(values)


def changes_record(changes: Mapping[int, Mapping[str, Sequence[str]]]) -> dict[str, dict[str, str]]:
    """What changes, for the grid: the new texts by field, by the numbers of tracks."""
    return {str(pk): {name: text_of(values) for name, values in fields.items()} for pk, fields in changes.items()}


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
        ChangeRow(id=file.id, name=file.name, values=changed_values(file.fields, changes[file.id]))
        for file in files
        if file.id in changes
    ]
