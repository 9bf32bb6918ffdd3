"""Inspect many files on all cores, in their order."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

from rumbrel.core.workers import worker_context

from .deep import DeepFacts, inspect_deep
from .inspect import inspect_file

__all__ = ["inspect_many"]

_FEW = 24
"""Below this many headers, starting workers takes longer than reading."""
_FILES_A_TURN = 16


def _inspect(path: Path, *, deep: bool, sound: str) -> DeepFacts:
    facts = inspect_file(path, sound=sound)
    return inspect_deep(facts) if deep else DeepFacts(facts=facts)


def inspect_many(paths: Sequence[Path], *, deep: bool, jobs: int, sound: str = "") -> Iterator[DeepFacts]:
    """Facts of each file in the order given; deep decodes every file throughout. sound is as inspect_file takes it."""
    work = partial(_inspect, deep=deep, sound=sound)
    if jobs < 2 or (len(paths) < _FEW and not deep) or len(paths) < 2:
        yield from map(work, paths)
        return
    context = worker_context("scipy.signal") if deep else worker_context()
    with ProcessPoolExecutor(jobs, mp_context=context) as pool:
        yield from pool.map(work, paths, chunksize=1 if deep else _FILES_A_TURN)
