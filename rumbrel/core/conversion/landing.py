"""What is noted of a result just before it gets its name, and how it is known again after a kill."""

import hashlib
import json
import os
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rumbrel.core.errors import DecodeError
from rumbrel.core.files import file_identity, write_whole
from rumbrel.core.forecast.ledger import Entry, ResultLedger, append_entry, source_state
from rumbrel.core.forecast.steps import Step
from rumbrel.core.records import as_record, from_record

from .outcome import Outcome

__all__ = ["Landings", "found_of", "landed_outcome", "note_landing", "restored"]


@dataclass(frozen=True, slots=True)
class Landings:
    """Notes, in a folder of one run's own, of what its workers brought into place: a worker may be killed
    after that and before it is heard, and its result is then neither lost nor taken for another's."""

    folder: Path

    def note(self, outcome: Outcome, working: Path) -> None:
        """Note a finished working file just before it gets its name. Raises OutputError."""
        record = {"file": file_identity(working), "found": found_of(outcome)}
        write_whole(self._note_of(outcome.step), json.dumps(record))

    def outcome(self, step: Step) -> Outcome | None:
        """What became of a step that a killed worker had in hand; None where the file in place is not its own."""
        note, output = self._note_of(step), Path(step.output)
        if not note.exists() or not output.exists():
            return None
        record = json.loads(note.read_text())
        return restored(step, record["found"]) if file_identity(output) == record["file"] else None

    def forget(self, step: Step) -> None:
        """The step's outcome was heard."""
        self._note_of(step).unlink(missing_ok=True)

    def _note_of(self, step: Step) -> Path:
        return self.folder / hashlib.sha256(os.fsencode(step.output)).hexdigest()


def note_landing(outcome: Outcome, working: Path, *, ledgers: Mapping[str, Path]) -> None:
    """Note a finished working file in the ledger of its target, if there is one. Raises OutputError."""
    step = outcome.step
    ledger = ledgers.get(step.target.slug)
    if ledger is None or not step.work:
        return
    status = working.stat()
    entry = Entry(
        source=str(Path(step.source.path).absolute()), part=step.source.part, source_bytes=step.source.size_bytes, source_ns=step.source.modified_ns, work=step.work,
        output=step.output, output_bytes=status.st_size, output_ns=status.st_mtime_ns, partial=outcome.partial,
        found=found_of(outcome), **_state(Path(step.source.path)),
    )  # fmt: skip
    append_entry(ledger, entry)


def _state(source: Path) -> dict[str, Any]:
    """Of a source that went meanwhile, or may no longer be read, nothing is known."""
    try:
        return source_state(source)
    except (OSError, DecodeError):
        return {}


def landed_outcome(step: Step, ledger: ResultLedger | None) -> Outcome | None:
    """What became of a step whose result is in place, though nobody heard of it; None where it is not ours."""
    if ledger is None or not step.work or step.replaces or not Path(step.output).is_file():
        return None
    entry = ledger.landed(_source(step), step.work)
    if entry is None or entry.output != step.output or not entry.found:
        return None
    return restored(step, entry.found)


def found_of(outcome: Outcome) -> dict[str, Any]:
    """An outcome as a record, without its step."""
    record: dict[str, Any] = as_record(outcome)
    del record["step"]
    return record


def restored(step: Step, found: Mapping[str, Any]) -> Outcome:
    """The outcome of a step that a record tells of."""
    return replace(from_record(Outcome, {**found, "step": as_record(step)}), step=step)


def _source(step: Step) -> str:
    return f"{Path(step.source.path).absolute()}{step.source.part}"
