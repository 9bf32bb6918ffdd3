"""What is noted of a result just before it gets its name, and how it is known again after a kill."""

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from rumbrel.core.forecast.ledger import Entry, ResultLedger, append_entry
from rumbrel.core.forecast.steps import Step
from rumbrel.core.records import as_record, from_record

from .outcome import Outcome

__all__ = ["landed_outcome", "note_landing"]


def note_landing(outcome: Outcome, working: Path, *, ledgers: Mapping[str, Path]) -> None:
    """Note a finished working file in the ledger of its target, if there is one. Raises OutputError."""
    step = outcome.step
    ledger = ledgers.get(step.target.slug)
    if ledger is None or not step.work:
        return
    status = working.stat()
    found = as_record(outcome)
    del found["step"]
    entry = Entry(
        source=_source(step), source_bytes=step.source.size_bytes, source_ns=step.source.modified_ns, work=step.work,
        output=step.output, output_bytes=status.st_size, output_ns=status.st_mtime_ns, partial=outcome.partial,
        found=found,
    )  # fmt: skip
    append_entry(ledger, entry)


def landed_outcome(step: Step, ledger: ResultLedger | None) -> Outcome | None:
    """What became of a step whose result is in place, though nobody heard of it; None where it is not ours."""
    if ledger is None or not step.work or step.replaces or not Path(step.output).is_file():
        return None
    entry = ledger.landed(_source(step), step.work)
    if entry is None or entry.output != step.output or not entry.found:
        return None
    return replace(from_record(Outcome, {**entry.found, "step": as_record(step)}), step=step)


def _source(step: Step) -> str:
    return str(Path(step.source.path).absolute())
