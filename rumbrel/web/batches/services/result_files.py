"""Where the results of a batch are, and which of them may be given out."""

import os
from collections.abc import Iterable
from pathlib import Path

from django.conf import settings

from rumbrel.web.collection.services import allowed_roots

from ..models import Batch, Item

__all__ = ["result_file", "results_folder", "shown_name"]


def shown_name(name: str) -> str:
    """A name for others: bytes that are no text become question marks."""
    return name.encode("utf-8", "replace").decode("utf-8")


def result_file(batch: Batch, item: Item) -> Path | None:
    """The file of a result that is there, in its batch's folder and, links resolved, still in it; else None."""
    if item.state not in (Item.State.DONE, Item.State.PART) or not item.output:
        return None
    path = item.result_path
    try:
        real = path.resolve()
        inside = any(real.is_relative_to(root) for root in _roots(batch))
        return path if inside and path.is_file() else None
    except (OSError, RuntimeError):
        return None


def _roots(batch: Batch) -> tuple[Path, ...]:
    if batch.destination:
        return (Path(batch.destination).resolve(),)
    return (*allowed_roots(), settings.RUMBREL.results.resolve())


def results_folder(batch: Batch, paths: Iterable[Path]) -> Path:
    """The folder that the names of results are said from: the destination, or the innermost one that holds them all."""
    if batch.destination:
        return Path(batch.destination)
    parents = {str(path.parent) for path in paths}
    return Path(os.path.commonpath(parents)) if parents else Path("/")
