"""Names that a place takes, as near to the wanted ones as it allows."""

import os
import unicodedata
from collections.abc import Sequence
from pathlib import Path

from .file_systems import FileSystem

__all__ = ["as_it_lies", "clean_name", "fitted_name"]

# Signs that have a look-alike which is allowed everywhere.
_STAND_INS = {'"': "'", "*": "+", "/": "-", ":": "-", "<": "(", ">": ")", "?": "", "\\": "-", "|": "-", ";": ","}


def clean_name(name: str, system: FileSystem) -> str:
    """The name with what the file system forbids replaced, not yet cut to its length."""
    text = unicodedata.normalize("NFC", name)
    if not (text.isascii() and system.forbidden.isdisjoint(text)):
        text = _replaced(text, system)
    if system.trims_end:
        text = text.rstrip(". ").lstrip(" ")
    if text.partition(".")[0].lower() in system.reserved:
        text = f"_{text}"
    return text


def _replaced(text: str, system: FileSystem) -> str:
    if system.basic_plane_only:
        text = "".join(sign if ord(sign) <= 0xFFFF else "_" for sign in text)
    text = "".join(_STAND_INS.get(sign, "_") if sign in system.forbidden else sign for sign in text)
    if system.key != "native":
        # Marks that only steer the direction of writing make two names look the same.
        text = "".join(sign for sign in text if unicodedata.category(sign) != "Cf" or sign == "\u200d")
        # A lone surrogate stands for a byte that was no UTF-8: such a place cannot hold it.
        text = text.encode("utf-8", "replace").decode("utf-8").replace("?", "_")
    return text


def fitted_name(stem: str, suffix: str, system: FileSystem, *, mark: str = "", longest: int | None = None) -> str:
    """stem + mark + suffix, cleaned, the stem cut between characters so that the whole fits.

    longest is a lower limit of a target's own, in the same unit.
    """
    limit = min(system.longest_name, longest or system.longest_name)
    cleaned = clean_name(stem, system) or "untitled"
    while system.name_length(f"{cleaned}{mark}{suffix}") > limit and len(cleaned) > 1:
        over = system.name_length(f"{cleaned}{mark}{suffix}") - limit
        # A character takes at most four units, so this many can go at once without cutting too much.
        cleaned = cleaned[: -max(1, over // 4)]
        while len(cleaned) > 1 and unicodedata.combining(cleaned[-1]):
            cleaned = cleaned[:-1]
        cleaned = cleaned.rstrip(" .") or cleaned
    return f"{cleaned}{mark}{suffix}"


def as_it_lies(folder: Path, names: Sequence[str]) -> Path:
    """The path of names below a folder, each in the composition in which it lies there already: a system that takes accents
    apart (Unicode normalization form D) wrote another name for the eye's same one, which a second file or folder must not
    stand beside."""
    path = folder
    for name in names:
        apart = name if name.isascii() else unicodedata.normalize("NFD", name)
        lies_apart = apart != name and not os.path.lexists(path / name) and os.path.lexists(path / apart)
        path /= apart if lies_apart else name
    return path
