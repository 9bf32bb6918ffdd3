"""What a user asks of the tags of many files at once, and what that means for each of them."""

import re
import string
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from rumbrel.core.errors import TagError

from .mapping import field_in_pattern, row_for

__all__ = ["CASES", "NamedFile", "TagWish", "changes_for", "values_in_name"]

Fields = Mapping[str, tuple[str, ...]]
_LONGEST_PATTERN = 300
SEPARATOR = ";"
"""Between several values of a field, as they are typed."""


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedFile:
    """A file's fields, its name with its folders, without its suffix, parts divided by slashes, and how many pictures it
    has."""

    id: int
    name: str
    fields: Fields
    pictures: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class TagWish:
    """Done in this order: values out of names by a pattern, set values ("" takes the field out), two fields swapped,
    trimming, letter case of fields, numbering in the order of the files, and what was typed for single files: cells are
    values by their fields, by the ids of the files."""

    pattern: str = ""
    values: Mapping[str, str] = field(default_factory=dict)
    swap: tuple[str, str] | None = None
    trims: bool = False
    case: str = ""
    case_fields: tuple[str, ...] = ()
    numbers: bool = False
    first_number: int = 1
    cells: Mapping[int, Mapping[str, str]] = field(default_factory=dict)

    @property
    def is_empty(self) -> bool:
        return not self.parts

    @property
    def parts(self) -> dict[str, "TagWish"]:
        """What is asked of all files, each alone, by its name; and the cells."""
        asked = {
            "pattern": replace(_NOTHING, pattern=self.pattern), "values": replace(_NOTHING, values=self.values),
            "swap": replace(_NOTHING, swap=self.swap), "trims": replace(_NOTHING, trims=self.trims),
            "case": replace(_NOTHING, case=self.case, case_fields=self.case_fields if self.case else ()),
            "numbers": replace(
                _NOTHING, numbers=self.numbers, first_number=self.first_number if self.numbers else 1
            ),
            "cells": replace(_NOTHING, cells=self.cells),
        }  # fmt: skip
        return {name: wish for name, wish in asked.items() if wish != _NOTHING}


_NOTHING = TagWish()


def _sentence(text: str) -> str:
    """The first letter large, the others as they are where they are large for a reason: roman numerals, initials."""
    return text[:1].upper() + "".join(
        part if _is_meant(part) else part.lower() for part in re.split(r"(\W+)", text[1:])
    )


def _words(text: str) -> str:
    return "".join(
        part if _is_meant(part) else part[:1].upper() + part[1:].lower() for part in re.split(r"([\s/(]+)", text)
    )


_ROMAN = re.compile(r"[IVXLC]+")


def _is_meant(word: str) -> bool:
    return bool(_ROMAN.fullmatch(word)) or (word.isupper() and len(word.strip(".")) == 1 and "." in word)


CASES: Mapping[str, tuple[str, Callable[[str], str]]] = {
    "sentence": ("Like a sentence", _sentence),
    "words": ("Every Word Large", _words),
    "upper": ("ALL LARGE", str.upper),
    "lower": ("all small", str.lower),
}


def _compiled(pattern: str) -> tuple["re.Pattern[str]", tuple[str, ...]]:
    """What a pattern of Python's format syntax matches, and its fields. A field takes as little as it can, the last
    one of a part the rest; {} takes anything and keeps nothing; with a width or d it takes digits alone."""
    if len(pattern) > _LONGEST_PATTERN:
        raise TagError(f"The pattern is longer than {_LONGEST_PATTERN} characters.")
    try:
        pieces = list(string.Formatter().parse(pattern))
    except ValueError as error:
        raise TagError(f"The pattern cannot be read: {error}. Write fields as {{title}}.") from error
    text = ""
    names: list[str] = []
    for literal, name, spec, conversion in pieces:
        text += re.escape(literal)
        if name is None:
            continue
        if conversion or (spec and not re.fullmatch(r"0?\d?d", spec)):
            raise TagError(f"The pattern's '{spec or conversion}' is not a width of digits, such as {{track:02d}}.")
        takes = r"\d+" if spec else "[^/]+?"
        if not name:
            text += f"(?:{takes})"
        elif row_for(field_in_pattern(name)) is None:
            raise TagError(f"The pattern has no field '{name}'. It has title, performer, album, track and others.")
        elif field_in_pattern(name) in names:
            raise TagError(f"The pattern names '{name}' twice.")
        else:
            names.append(field_in_pattern(name))
            text += f"({takes})"
    if not names:
        raise TagError("The pattern names no field. Write {track} {title}, say.")
    return re.compile(f"(?:.*/)?{text}"), tuple(names)


def values_in_name(pattern: str, name: str) -> dict[str, str] | None:
    """The values that a name holds by a pattern, None where it does not match. Raises TagError."""
    compiled, names = _compiled(pattern)
    found = compiled.fullmatch(name)
    if found is None:
        return None
    values = dict(zip(names, (value.strip() for value in found.groups()), strict=True))
    return {
        name: str(int(value)) if name in ("track", "disc") and value.isdigit() else value
        for name, value in values.items()
    }


def changes_for(files: Sequence[NamedFile], wish: TagWish) -> dict[int, dict[str, tuple[str, ...]]]:
    """What is to change in each file, by its id; files in which nothing is are left out. Raises TagError."""
    if wish.pattern:
        # Also where there is no file to try it on.
        _compiled(wish.pattern)
    for name in {*wish.values, *(name for cells in wish.cells.values() for name in cells)}:
        if row_for(name) is None:
            raise TagError(f"There is no field '{name}'.")
    changed = {}
    for position, file in enumerate(files):
        after = _wished(file, wish, wish.first_number + position, len(files) + wish.first_number - 1)
        difference = {
            name: after.get(name, ())
            for name in {*after, *file.fields}
            if after.get(name, ()) != file.fields.get(name, ())
        }
        if difference:
            changed[file.id] = difference
    return changed


def _values(text: str) -> tuple[str, ...]:
    """Several values of a field as they are typed."""
    return tuple(value for part in text.split(SEPARATOR) if (value := part.strip()))


def _wished(file: NamedFile, wish: TagWish, number: int, last: int) -> dict[str, tuple[str, ...]]:
    fields = dict(file.fields)
    if wish.pattern:
        found = values_in_name(wish.pattern, file.name) or {}
        fields |= {name: (value,) for name, value in found.items()}
    for name, text in wish.values.items():
        fields[name] = _values(text)
    if wish.swap:
        one, other = wish.swap
        fields[one], fields[other] = fields.get(other, ()), fields.get(one, ())
    if wish.trims:
        fields = {
            name: tuple(trimmed for value in values if (trimmed := " ".join(value.split())))
            for name, values in fields.items()
        }
    if wish.case:
        change = CASES[wish.case][1]
        fields |= {name: tuple(change(value) for value in fields[name]) for name in wish.case_fields if name in fields}
    if wish.numbers:
        fields["track"] = (f"{number}/{last}",)
    for name, text in wish.cells.get(file.id, {}).items():
        fields[name] = _values(text)
    return {name: values for name, values in fields.items() if values}
