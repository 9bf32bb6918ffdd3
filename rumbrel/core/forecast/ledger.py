"""What earlier runs made, so that finished work is recognised without opening a file.

One line of JSON a result, appended just before the result gets its name, so that no kill can come between:
a line whose file never got there is told by the file. A line that a kill cut short is passed over.
"""

import errno
import hashlib
import json
import logging
import os
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from rumbrel.core.errors import DecodeError, OutputError
from rumbrel.core.files import file_digest, refusal_reason
from rumbrel.core.sound.dither import FLAT
from rumbrel.core.targets.model import Target

__all__ = ["made_here", "Entry", "ResultLedger", "append_entry", "short_mark", "source_state", "work_mark"]

logger = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """A result: what it was made from, as that was then, and what the result itself was then.

    found is what its check found, as a record; partial says that only a part of the source could be saved. part is
    which part of the source was meant, "" for the whole (see Facts.part). source_changed_ns is the source's change time, and
    source_digest that of its bytes: by these another content of the same size and time is found, and a source under a new
    name.
    """

    source: str
    source_bytes: int
    source_ns: int
    work: str
    output: str
    output_bytes: int
    output_ns: int
    partial: bool = False
    found: Mapping[str, Any] = field(default_factory=dict)
    part: str = ""
    source_changed_ns: int = 0
    source_digest: str = ""

    @property
    def key(self) -> str:
        """What tells the sound it was made from."""
        return f"{self.source}{self.part}"


def source_state(source: Path) -> dict[str, Any]:
    """What an entry keeps of its source's bytes. Raises OSError, and DecodeError where they cannot be read."""
    return {"source_changed_ns": source.stat().st_ctime_ns, "source_digest": file_digest(source)}


def append_entry(ledger: Path, entry: Entry) -> None:
    """Add to a ledger's file, which need not exist yet: in one piece, so that several can write at once.

    It begins a line of its own, whatever a kill left before it. Raises OutputError.
    """
    record = {name: getattr(entry, name) for name in Entry.__slots__}
    try:
        ledger.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(ledger, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644)
        line = f"\n{json.dumps(record)}\n".encode("utf-8", "surrogateescape")
        try:
            if os.write(handle, line) < len(line):
                # What a disk with too little room does first; what is there of the line is no entry.
                raise OSError(errno.ENOSPC, "")
        finally:
            os.close(handle)
    except OSError as error:
        raise OutputError(f"The list of results could not be kept: {refusal_reason(ledger.parent, error)}.") from error


def work_mark(target: Target, options: str) -> str:
    """A mark that changes whenever anything that decides on a result does."""
    dither = target.make.dither
    return short_mark(f"{target!r}|{options}" + (f"|{dither}" if dither != FLAT else ""))


def short_mark(text: str) -> str:
    """Twenty hexadecimal digits that stand for a text."""
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:20]


class ResultLedger:
    """The results at one destination, kept in a file of their own, which need not exist yet."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._by_work: dict[tuple[str, str], list[Entry]] = {}
        self._by_output: dict[str, list[Entry]] = {}
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
        # The newest first; the one before it holds where the newest never got its name.
        for entries in (
            self._by_work.setdefault((entry.key, entry.work), []),
            self._by_output.setdefault(entry.output, []),
        ):
            entries[:] = [entry, *entries[:1]]

    @property
    def has_entries(self) -> bool:
        return bool(self._by_output)

    def finished(self, source: str, work: str) -> Entry | None:
        """The whole result of this work on this source, if both files are as they were when it was made."""
        entry = self.landed(source, work)
        return entry if entry and not entry.partial else None

    def landed(self, source: str, work: str) -> Entry | None:
        """The result of this work on this source, whole or in part, if both files are as they were then."""
        for entry in self._by_work.get((source, work), ()):
            if _unchanged(entry.output, entry.output_bytes, entry.output_ns):
                return entry if self._has_same_source(entry) else None
        return None

    def moved(self, digest: str, work: str) -> Entry | None:
        """The whole result of this work on a source with these bytes that is no longer at its old name."""
        for entry in self._moved_sources.get((digest, work), ()):
            if _unchanged(entry.output, entry.output_bytes, entry.output_ns):
                return entry
        return None

    @property
    def has_moved(self) -> bool:
        """Whether the source of any whole result is no longer at its old name, and can be known again."""
        return bool(self._moved_sources)

    @cached_property
    def _moved_sources(self) -> dict[tuple[str, str], list[Entry]]:
        """By digest and work, as the ledger was when it was first asked."""
        moved: dict[tuple[str, str], list[Entry]] = {}
        for (_, work), entries in self._by_work.items():
            for entry in entries:
                if entry.source_digest and not entry.partial and not os.path.lexists(entry.source):
                    moved.setdefault((entry.source_digest, work), []).append(entry)
        return moved

    def _has_same_source(self, entry: Entry) -> bool:
        """By size and times; where only the change time is another, by every byte, once: then that time is kept."""
        if not _unchanged(entry.source, entry.source_bytes, entry.source_ns):
            return False
        try:
            changed_ns = os.stat(entry.source).st_ctime_ns
            if not entry.source_digest or changed_ns == entry.source_changed_ns:
                return True
            if file_digest(Path(entry.source)) != entry.source_digest:
                return False
        except (OSError, DecodeError):
            return False
        try:
            self.add(replace(entry, source_changed_ns=changed_ns))
        except OutputError as error:
            logger.warning("%s is read again the next time: %s", entry.source, error)
        return True

    def entries(self) -> tuple[Entry, ...]:
        """The newest of each result."""
        return tuple(entries[0] for entries in self._by_output.values() if entries)

    def made(self, output: str) -> Entry | None:
        """What an output was made from, if it is still as it was made."""
        for entry in self._by_output.get(output, ()):
            if _unchanged(output, entry.output_bytes, entry.output_ns):
                return entry
        return None

    def was_made_of(self, output: str, source: str) -> bool:
        """Whether an earlier run put its result of this source there, whatever the file has become since."""
        return any(entry.key == source for entry in self._by_output.get(output, ()))

    def outputs(self) -> tuple[str, ...]:
        """Every result that earlier runs made and that is still as it was made."""
        return tuple(output for output in self._by_output if self.made(output) is not None)

    def add(self, entry: Entry) -> None:
        """Remember a result, here and in the file. Raises OutputError."""
        append_entry(self.path, entry)
        self._take(entry)


def made_here(folder: Path, output: Path) -> Entry | None:
    """What a file was made from, by whichever of the ledgers kept in a folder knows it, if it is still as it was made."""
    for destination in output.parents:
        ledger = ResultLedger.for_destination(folder, destination)
        if (entry := ledger.made(str(output))) is not None:
            return entry
    return None


def _unchanged(path: str, size_bytes: int, modified_ns: int) -> bool:
    try:
        status = os.stat(path)
    except OSError:
        return False
    return (status.st_size, status.st_mtime_ns) == (size_bytes, modified_ns)
