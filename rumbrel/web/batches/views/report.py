"""What came of a batch: as files, as a page to be printed, and as a listing of the folders its results are in."""

import csv
import io
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from rumbrel.core.conversion.report import table_cell

from .. import services
from ..models import Batch, Item
from ..queries import batches, items_of, result_items
from ..rows import settings_lines, shared_notes
from ..wishes import BatchWish

_COLUMNS = (
    "number", "title", "source", "target", "action", "reason", "state", "result", "now", "after", "bytes_now",
    "bytes_after", "kbps_now", "kbps_after", "checked", "bit_exact", "samples_now", "samples_after", "digest", "sha256",
    "identical_file", "difference_db", "compared_samples", "worst_seconds", "read_by", "checked_again", "check_error",
    "error", "warnings",
)  # fmt: skip
_TYPES = {"csv": "text/csv", "json": "application/json"}
MOST_PRINTED = 20_000


@require_safe
def export(request: HttpRequest, pk: int, kind: str) -> HttpResponseBase:
    found = get_object_or_404(batches(), pk=pk)
    lines = _csv(found) if kind == "csv" else _json(found)
    answer = StreamingHttpResponse(lines, content_type=f"{_TYPES[kind]}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="batch-{pk}.{kind}"'
    return answer


def _record(item: Item) -> dict[str, Any]:
    return {
        "number": item.number, "title": item.title, "source": item.source, "target": item.target_slug,
        "action": item.action, "reason": item.reason, "state": item.state, "result": item.result, "now": item.now,
        "after": item.after, "bytes_now": item.bytes_in, "bytes_after": item.bytes_out, "kbps_now": item.kbps_in,
        "kbps_after": item.kbps_out, "checked": item.checked, "bit_exact": item.bit_exact,
        "samples_now": item.samples_in, "samples_after": item.samples_out, "digest": item.digest, "sha256": item.sha256,
        "identical_file": item.identical_file,
        "difference_db": item.difference_db, "compared_samples": item.compared_samples,
        "worst_seconds": item.worst_seconds, "read_by": item.read_by,
        "checked_again": item.verified_at.isoformat() if item.verified_at else "", "check_error": item.verify_error,
        "error": item.error, "warnings": item.warnings,
    }  # fmt: skip


def _csv(found: Batch) -> Iterator[str]:
    yield ",".join(_COLUMNS) + "\r\n"
    for item in items_of(found).iterator(chunk_size=500):
        record = _record(item)
        record["warnings"] = "; ".join(f"{w['code']}: {w['text']}" for w in item.warnings)
        line = io.StringIO()
        csv.writer(line).writerow([table_cell(record[name]) for name in _COLUMNS])
        yield line.getvalue()


def _json(found: Batch) -> Iterator[str]:
    """One array, an item a line."""
    yield "["
    for number, item in enumerate(items_of(found).iterator(chunk_size=500)):
        yield (",\n" if number else "\n") + json.dumps(_record(item))
    yield "\n]\n"


@require_safe
def printed(request: HttpRequest, pk: int) -> HttpResponse:
    """All lines on one page, what failed first, with the exact settings."""
    found = get_object_or_404(batches(), pk=pk)
    wish = BatchWish.restored(found.targets, found.options)
    items = list(items_of(found, worst_first=True)[:MOST_PRINTED])
    notes = shared_notes([item.notes for item in items])
    context = {
        "batch": found,
        "items": items,
        "notes": notes,
        "letters": {note.text: note.letter for note in notes},
        "settings": settings_lines(wish),
        "counts": found.counts_in_order,
    }
    return render(request, "batches/report.html", context)


@require_safe
def folder(request: HttpRequest, pk: int) -> HttpResponse:
    """The folders and files where the results of a batch are, and which of them it made."""
    found = get_object_or_404(batches(), pk=pk)
    items = {path: item for item in result_items(found) if (path := services.result_file(found, item)) is not None}
    if not items:
        raise Http404("The results are no longer there.")
    base = services.results_folder(found, items)
    here = base / request.GET.get("below", "")
    inside = [path for path in items if path.is_relative_to(here)]
    if ".." in here.parts or not inside:
        raise Http404("This batch has no results there.")
    below = {path.relative_to(here).parts[0] for path in inside if len(path.relative_to(here).parts) > 1}
    files = sorted((path, items[path]) for path in inside if path.parent == here)
    context = {
        "batch": found,
        "here": here,
        "up": str(here.parent.relative_to(base)) if here != base else None,
        "folders": [(name, str((here / name).relative_to(base))) for name in sorted(below)],
        "files": [(path.name, item) for path, item in files],
        "others": _others(here, {path.name for path, _ in files}),
    }
    return render(request, "batches/folder.html", context)


def _others(here: Path, ours: set[str]) -> int:
    """How many other files lie there."""
    try:
        return sum(
            1 for path in here.iterdir() if path.is_file() and path.name not in ours and not path.name.startswith(".")
        )
    except OSError:
        return 0
