"""Paths in a database and its ledgers, brought to where folders are now: an installation restored elsewhere finds its files."""

import hashlib
import json
import os
import re
import sqlite3
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import Any

__all__ = ["move_paths"]

_BEHIND = r"(?=/|$|[\"'\s,;:)\]])"
"""What may follow a folder's path: more of the path, or no path any longer."""
_BEFORE = r"(?<![\w./~-])"


class _Moves:
    """Each text with the old places replaced by the new ones, all at once, so that places may change with each other."""

    def __init__(self, places: Mapping[Path, Path]) -> None:
        pairs = {str(old): str(new) for old, new in places.items() if old != new}
        # JSON holds what is not ASCII as numbers.
        pairs |= {json.dumps(old)[1:-1]: json.dumps(new)[1:-1] for old, new in pairs.items()}
        longest_first = sorted(pairs, key=len, reverse=True)
        self.pairs = pairs
        self._pattern = (
            re.compile(_BEFORE + "(" + "|".join(map(re.escape, longest_first)) + ")" + _BEHIND) if pairs else None
        )

    def of(self, text: Any) -> Any:
        if self._pattern is None or not isinstance(text, str):
            return text
        return self._pattern.sub(lambda found: self.pairs[found[1]], text)


def move_paths(database: Path, ledgers: Path, places: Mapping[Path, Path]) -> int:
    """Rewrite every column of text, and the ledgers, where a folder has another place now. Returns how many rows changed.

    Raises sqlite3.Error, OSError.
    """
    moves = _Moves(places)
    if not moves.pairs:
        return 0
    changed = 0
    with closing(sqlite3.connect(database)) as live, live:
        live.create_function("moved", 1, moves.of, deterministic=True)
        for table, column in _text_columns(live):
            wanted = " OR ".join(f'instr("{column}", ?)' for _ in moves.pairs)
            cursor = live.execute(
                f'UPDATE "{table}" SET "{column}" = moved("{column}") WHERE ({wanted}) AND moved("{column}") <> "{column}"',  # noqa: S608
                list(moves.pairs),
            )
            changed += cursor.rowcount
    for path in sorted(ledgers.glob("*.jsonl")) if ledgers.is_dir() else ():
        _move_ledger(path, moves)
    return changed


def _text_columns(live: sqlite3.Connection) -> list[tuple[str, str]]:
    """(table, column) of all that hold texts; not what the search index keeps of them, which follows by itself."""
    tables = live.execute("SELECT name, sql FROM sqlite_master WHERE type = 'table'").fetchall()
    virtual = [name for name, sql in tables if sql and sql.upper().startswith("CREATE VIRTUAL")]
    found = []
    for table, _ in tables:
        if table.startswith(("sqlite_", "django_")) or any(table.startswith(each) for each in virtual):
            continue
        for _, column, kind, *_ in live.execute(f'PRAGMA table_info("{table}")').fetchall():
            if kind.lower().startswith(("text", "varchar", "char")):
                found.append((table, column))
    return found


def _move_ledger(path: Path, moves: _Moves) -> None:
    """A ledger is found by its destination, so it gets another name with it."""
    lines, destination = [], None
    for line in path.read_text(encoding="utf-8", errors="surrogateescape").splitlines():
        try:
            entry = json.loads(line)
        except ValueError:
            continue
        if destination is None and isinstance(entry.get("output"), str):
            destination = _destination(entry["output"], path.stem)
        lines.append(json.dumps({key: moves.of(value) for key, value in entry.items()}))
    if destination is None:
        return
    new = path.with_name(f"{_mark(Path(str(moves.of(str(destination)))))}.jsonl")
    body = "".join(f"\n{line}\n" for line in lines)
    if new != path:
        path.unlink()
    with new.open("a", encoding="utf-8") as file:
        file.write(body)
        file.flush()
        os.fsync(file.fileno())


def _mark(destination: Path) -> str:
    return hashlib.sha256(os.fsencode(os.path.realpath(destination))).hexdigest()[:24]


def _destination(output: str, stem: str) -> Path | None:
    return next((folder for folder in Path(output).parents if _mark(folder) == stem), None)
