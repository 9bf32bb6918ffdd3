"""Sources of a batch: files as named, folders walked."""

import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

__all__ = ["Source", "gather_sources"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A file and where it lies in the mirrored tree. named says that the user named it himself.

    id tells a source from the others of its batch: steps and lists refer to it.
    """

    id: int
    path: Path
    relative: Path
    named: bool = True


def gather_sources(paths: Iterable[Path]) -> list[Source]:
    """Files as named, folders walked in order of name. A folder reached again by a link is not walked twice."""
    sources: list[Source] = []
    for start in paths:
        if not start.is_dir():
            sources.append(Source(id=len(sources), path=start, relative=Path(start.name)))
            continue
        seen: set[str] = set()
        for folder, inner, names in os.walk(start, followlinks=True):
            real = os.path.realpath(folder)
            if real in seen:
                inner.clear()
                continue
            seen.add(real)
            inner.sort()
            inner[:] = [name for name in inner if not name.startswith(".")]
            for name in sorted(names):
                path = Path(folder, name)
                if not name.startswith("."):
                    relative = path.relative_to(start)
                    sources.append(Source(id=len(sources), path=path, relative=relative, named=False))
    return sources
