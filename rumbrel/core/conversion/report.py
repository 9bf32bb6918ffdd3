"""A report of a run as a file: CSV for tables, JSON for scripts. It appears whole or not at all."""

import csv
import io
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rumbrel.core.errors import OutputError
from rumbrel.core.files import write_whole

from .outcome import Outcome

__all__ = ["table_cell", "write_report"]

_COLUMNS = (
    "source", "output", "target", "action", "reason", "ok", "checked", "bytes_in", "bytes_out", "bitrate_in",
    "bitrate_out", "samples_in", "samples_out", "digest", "sha256", "identical_file", "difference_db", "compared_samples", "worst_seconds", "read_by", "error", "warnings",
)  # fmt: skip
# A cell that begins so is taken for a formula by programs that show tables.
_FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r")


def write_report(outcomes: Sequence[Outcome], path: Path) -> None:
    """Write FILE.csv or FILE.json. Raises OutputError for another ending or a destination that refuses."""
    kinds = {".csv": _csv_text, ".json": _json_text}
    if path.suffix.lower() not in kinds:
        raise OutputError(f"A report is written as .csv or .json, not as '{path.suffix}'.")
    text = kinds[path.suffix.lower()]([_record(outcome) for outcome in outcomes])
    write_whole(path, text.encode("utf-8", "replace"))


def _record(outcome: Outcome) -> dict[str, Any]:
    record = outcome.as_record()
    record["bitrate_in"] = outcome.step.source.bitrate_bps
    record["bitrate_out"] = outcome.bitrate_bps
    return record


def _json_text(records: list[dict[str, Any]]) -> str:
    return json.dumps(records, indent=1) + "\n"


def _csv_text(records: list[dict[str, Any]]) -> str:
    file = io.StringIO()
    writer = csv.writer(file)
    writer.writerow(_COLUMNS)
    for record in records:
        record["warnings"] = "; ".join(f"{w['code']}: {w['text']}" for w in record["warnings"])
        writer.writerow([table_cell(record[name]) for name in _COLUMNS])
    return file.getvalue()


def table_cell(value: Any) -> str:
    """A value as a cell that no program takes for a formula."""
    text = "" if value is None else str(value)
    return f"'{text}" if isinstance(value, str) and text.startswith(_FORMULA_SIGNS) else text
