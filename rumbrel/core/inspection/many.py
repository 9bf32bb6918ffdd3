"""Inspect many files on all cores, in their order."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from rumbrel.core.workers import worker_context

from .deep import DeepFacts, inspect_deep
from .inspect import inspect_file

__all__ = ["inspect_many"]

_FEW = 24
"""Below this many headers, starting workers takes longer than reading."""
_FILES_A_TURN = 16


def _inspect(path: Path) -> DeepFacts:
    return DeepFacts(facts=inspect_file(path))


def _inspect_deep(path: Path) -> DeepFacts:
    return inspect_deep(inspect_file(path))


def inspect_many(paths: Sequence[Path], *, deep: bool, jobs: int) -> Iterator[DeepFacts]:
    """Facts of each file in the order given; deep decodes every file throughout."""
    work = _inspect_deep if deep else _inspect
    if jobs < 2 or (len(paths) < _FEW and not deep) or len(paths) < 2:
        yield from map(work, paths)
        return
    context = worker_context("scipy.signal") if deep else worker_context()
    with ProcessPoolExecutor(jobs, mp_context=context) as pool:
        yield from pool.map(work, paths, chunksize=1 if deep else _FILES_A_TURN)
