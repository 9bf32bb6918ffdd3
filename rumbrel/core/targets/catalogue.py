"""The targets there are: those that ship with Rumbrel, read once, and the user's own, read when they change."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path

from rumbrel.core.errors import TargetError

from .model import Target
from .parsing import read_target

__all__ = [
    "OwnTargets",
    "all_targets",
    "find_target",
    "listed_target",
    "own_targets",
    "shipped_targets",
    "shipped_text",
    "use_own_targets",
]

_FOLDER = Path(__file__).parent / "catalogue_files"
_SUFFIX = ".toml"
_own_folder: list[Callable[[], Path]] = []


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnTargets:
    """The user's own, in order of slug; troubles are sentences about those that cannot be read."""

    targets: tuple[Target, ...] = ()
    troubles: tuple[str, ...] = ()


@cache
def shipped_targets() -> tuple[Target, ...]:
    """The catalogue in order of slug."""
    return tuple(read_target(path) for path in sorted(_FOLDER.glob(f"*{_SUFFIX}")))


def shipped_text(slug: str) -> str:
    """The TOML of a target of the catalogue."""
    return (_FOLDER / f"{slug}{_SUFFIX}").read_text(encoding="utf-8")


def use_own_targets(folder: Callable[[], Path]) -> None:
    """Have the targets in a folder, which need not exist yet, be found beside the catalogue's. It is asked for each
    time."""
    _own_folder[:] = [folder]


def own_targets() -> OwnTargets:
    """Those that are there now."""
    if not _own_folder:
        return OwnTargets()
    try:
        files = sorted(_own_folder[0]().glob(f"*{_SUFFIX}"))
        state = tuple((str(path), path.stat().st_mtime_ns) for path in files)
    except OSError as error:
        return OwnTargets(troubles=(f"Your targets cannot be read: {error.strerror}.",))
    return _read_own(state)


@lru_cache(maxsize=4)
def _read_own(state: tuple[tuple[str, int], ...]) -> OwnTargets:
    taken = {target.slug for target in shipped_targets()}
    found, troubles = [], []
    for name, _ in state:
        try:
            target = read_target(Path(name))
        except TargetError as error:
            troubles.append(str(error))
            continue
        if target.slug in taken:
            troubles.append(f"{Path(name).name} has the name of a target that is there already, and is passed over.")
        else:
            taken.add(target.slug)
            found.append(target)
    return OwnTargets(targets=tuple(found), troubles=tuple(troubles))


def all_targets() -> tuple[Target, ...]:
    """The catalogue, then the user's own."""
    return (*shipped_targets(), *own_targets().targets)


def listed_target(slug: str) -> Target:
    """One of all targets, by its slug. Raises TargetError naming the ones there are."""
    targets = {target.slug: target for target in all_targets()}
    if slug not in targets:
        raise TargetError(f"There is no target '{slug[:80]}'. There are: {', '.join(targets)}.")
    return targets[slug]


def find_target(name: str) -> Target:
    """A target by its slug or by the path of a TOML file. Raises TargetError naming the ones there are."""
    slugs = {target.slug for target in all_targets()}
    if name not in slugs and name.endswith(_SUFFIX):
        return read_target(Path(name))
    return listed_target(name)
