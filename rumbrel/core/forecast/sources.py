"""Sources of a batch: files as named, folders walked."""

import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

__all__ = ["Source", "gather_sources"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A file and its place in the mirrored tree. `named` says that the user named it himself."""

    path: Path
    relative: Path
    named: bool = True


def gather_sources(places: Iterable[Path]) -> list[Source]:
    """Files as named, folders walked in order of name. A folder reached again by a link is not walked twice."""
    sources: list[Source] = []
    for place in places:
        if not place.is_dir():
            sources.append(Source(path=place, relative=Path(place.name)))
            continue
        seen: set[str] = set()
        for folder, inner, names in os.walk(place, followlinks=True):
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
                    sources.append(Source(path=path, relative=path.relative_to(place), named=False))
    return sources
