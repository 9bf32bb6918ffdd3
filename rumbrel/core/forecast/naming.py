"""Names of results: the mirrored tree or a pattern, endings, and no two results with one name."""

import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.inspection.facts import Facts
from rumbrel.core.places import FileSystem, clean_name, file_system_for, fitted_name
from rumbrel.core.targets.model import Target
from rumbrel.core.targets.pattern import filled_pattern

__all__ = ["NamePool", "Naming", "pattern_values"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Naming:
    """How results of one forecast are called. addition goes between the name and its ending."""

    pattern: str = ""
    addition: str = ""
    system: FileSystem = file_system_for("native")
    longest: int | None = None

    def parts(self, relative: Path, facts: Facts, target: Target, number: int) -> tuple[tuple[str, ...], str]:
        """(folders, stem) below the destination as the source's tree or the pattern says, not yet cleaned."""
        if self.pattern:
            *folders, stem = filled_pattern(
                self.pattern, pattern_values(relative, facts, number=number, target=target.slug)
            )
            return tuple(folders), stem + self.addition
        return relative.parent.parts, relative.stem + self.addition

    def folder(self, folders: Sequence[str]) -> Path:
        """Folders as the file system takes them."""
        return Path(*(self._folder(folder) for folder in self._shallow(list(folders))))

    def name(self, stem: str, suffix: str) -> str:
        return fitted_name(stem, suffix, self.system, longest=self.longest)

    def _shallow(self, folders: list[str]) -> list[str]:
        """As many folders as the file system is deep; the innermost ones become one."""
        deepest = self.system.deepest_folders
        if deepest is None or len(folders) < deepest:
            return folders
        return [*folders[: deepest - 2], " - ".join(folders[deepest - 2 :])]

    def _folder(self, name: str) -> str:
        """A folder is never one of dots, so nothing leaves the destination."""
        fitted = fitted_name(name, "", self.system, longest=self.longest)
        return "_" if set(fitted) <= {"."} else fitted

    def numbered(self, path: Path, number: int) -> Path:
        name = fitted_name(path.stem, path.suffix, self.system, mark=f" ({number})", longest=self.longest)
        return path.with_name(name)

    def changed(self, wanted: str, path: Path) -> bool:
        """Whether the file system made a name other than wanted of it."""
        return unicodedata.normalize("NFC", wanted) != path.stem

    def why_changed(self, wanted: str) -> str:
        plain = unicodedata.normalize("NFC", wanted)
        if clean_name(wanted, self.system) == f"_{plain}":
            return f"is reserved on {self.system.label}"
        if clean_name(wanted, self.system) == plain.strip(" ").rstrip(". ") != plain:
            return f"ends or begins with a space or dot, which {self.system.label} does not take"
        if clean_name(wanted, self.system) != unicodedata.normalize("NFC", wanted):
            return f"has characters that {self.system.label} does not take"
        return "is too long for its destination"


_NUMBERS = frozenset({"track", "disc"})


def pattern_values(relative: Path, facts: Facts, *, number: int, target: str = "") -> Mapping[str, str | int | None]:
    """What the fields of a pattern stand for: tags and facts of a file, and its number in the list."""
    values: dict[str, str | int | None] = {}
    for name in facts.tags.fields:
        text = facts.tags.first(name)
        head = text.partition("/")[0].strip()
        # Only ASCII digits count: isdigit() also accepts signs that int() refuses.
        is_number = name in _NUMBERS and head.isascii() and head.isdigit() and len(head) < 6
        values[name] = int(head) if is_number else None if name in _NUMBERS else text
    values.setdefault("title", relative.stem)
    return values | {
        "stem": relative.stem,
        "folder": relative.parent.name,
        "container": facts.container,
        "codec": facts.codec,
        "sample_rate": facts.sample_rate,
        "bit_depth": facts.bit_depth,
        "channels": facts.channels,
        "bitrate_kbps": round(facts.bitrate_bps / 1000),
        "target": target,
        "number": number,
    }


class NamePool:
    """The names given out so far, compared as the place compares them: one that ignores case takes "Peal" for "PEAL".

    taken is shared by several whose results go to one place.
    """

    def __init__(self, naming: Naming, taken: set[str] | None = None, *, ignores_case: bool = True) -> None:
        self._naming = naming
        self._ignores_case = ignores_case
        self._taken: set[str] = set() if taken is None else taken

    def _key(self, path: Path) -> str:
        name = unicodedata.normalize("NFC", str(path))
        return name.casefold() if self._ignores_case else name

    def claim(self, path: Path) -> bool:
        """Take the name; False when another result has it."""
        key = self._key(path)
        if key in self._taken:
            return False
        self._taken.add(key)
        return True

    def claim_numbered(self, path: Path, *, skip_existing: bool) -> Path:
        """The first of 'name', 'name (2)', 'name (3)' that is free; also on the disk if skip_existing."""
        number, candidate = 1, path
        while (skip_existing and candidate.exists()) or not self.claim(candidate):
            number += 1
            candidate = self._naming.numbered(path, number)
        return candidate
