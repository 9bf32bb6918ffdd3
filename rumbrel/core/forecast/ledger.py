"""What earlier runs made, so that finished work is recognised without opening a file.

One line of JSON a result, appended as results land; a line that a kill cut short is passed over.
"""

import hashlib
import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

from rumbrel.core.errors import OutputError
from rumbrel.core.targets.model import Target

__all__ = ["Entry", "ResultLedger", "work_mark"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """A result: what it was made from, as that was then, and what the result itself was then."""

    source: str
    source_bytes: int
    source_ns: int
    work: str
    output: str
    output_bytes: int
    output_ns: int


def work_mark(target: Target, options: str) -> str:
    """A mark that changes whenever anything that decides on a result does."""
    return hashlib.sha256(f"{target!r}|{options}".encode("utf-8", "surrogateescape")).hexdigest()[:20]


class ResultLedger:
    """The results at one destination, kept in a file of their own, which need not exist yet."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._by_work: dict[tuple[str, str], Entry] = {}
        self._by_output: dict[str, Entry] = {}
        try:
            lines = path.read_text(encoding="utf-8", errors="surrogateescape").splitlines()
        except FileNotFoundError:
            lines = []
        for line in lines:
            try:
                self._take(Entry(**json.loads(line)))
            except (ValueError, TypeError):
                continue

    @classmethod
    def for_destination(cls, folder: Path, destination: Path) -> "ResultLedger":
        """The ledger kept in a folder for the results at a destination."""
        mark = hashlib.sha256(os.fsencode(os.path.realpath(destination))).hexdigest()[:24]
        return cls(folder / f"{mark}.jsonl")

    def _take(self, entry: Entry) -> None:
        self._by_work[(entry.source, entry.work)] = entry
        self._by_output[entry.output] = entry

    @property
    def has_entries(self) -> bool:
        return bool(self._by_output)

    def finished(self, source: str, work: str) -> Entry | None:
        """The result of this work on this source, if both files are as they were when it was made."""
        entry = self._by_work.get((source, work))
        if entry is None or not _unchanged(entry.source, entry.source_bytes, entry.source_ns):
            return None
        return entry if _unchanged(entry.output, entry.output_bytes, entry.output_ns) else None

    def made(self, output: str) -> Entry | None:
        """What an output was made from, if it is still as it was made."""
        entry = self._by_output.get(output)
        return entry if entry and _unchanged(output, entry.output_bytes, entry.output_ns) else None

    @contextmanager
    def writing(self) -> Iterator["LedgerWriter"]:
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            with self._path.open("a", encoding="utf-8", errors="surrogateescape") as file:
                yield LedgerWriter(self, file)
        except OSError as error:
            raise OutputError(f"The list of results could not be kept in {self._path}: {error.strerror}.") from error

    def note(self, entry: Entry) -> None:
        self._take(entry)


class LedgerWriter:
    """Adds to a ledger whose file is open."""

    def __init__(self, ledger: ResultLedger, file: TextIO) -> None:
        self._ledger = ledger
        self._file = file

    def add(self, source: str, source_bytes: int, source_ns: int, work: str, output: Path) -> None:
        """Remember a result that is in place now."""
        status = output.stat()
        entry = Entry(
            source=source, source_bytes=source_bytes, source_ns=source_ns, work=work, output=str(output),
            output_bytes=status.st_size, output_ns=status.st_mtime_ns,
        )  # fmt: skip
        self._ledger.note(entry)
        record = {name: getattr(entry, name) for name in Entry.__slots__}
        self._file.write(json.dumps(record) + "\n")
        self._file.flush()


def _unchanged(path: str, size_bytes: int, modified_ns: int) -> bool:
    try:
        status = os.stat(path)
    except OSError:
        return False
    return (status.st_size, status.st_mtime_ns) == (size_bytes, modified_ns)
