"""The targets that ship with Rumbrel, read once from the TOML files beside this module."""

from functools import cache
from pathlib import Path

from rumbrel.core.errors import TargetError

from .model import Target
from .parsing import read_target

__all__ = ["all_targets", "find_target"]

_FOLDER = Path(__file__).parent / "catalogue_files"


@cache
def all_targets() -> tuple[Target, ...]:
    """The catalogue in order of slug."""
    return tuple(read_target(path) for path in sorted(_FOLDER.glob("*.toml")))


def find_target(name: str) -> Target:
    """A target by its slug or by the path of a TOML file. Raises TargetError naming the ones there are."""
    for target in all_targets():
        if target.slug == name:
            return target
    if name.endswith(".toml"):
        return read_target(Path(name))
    known = ", ".join(target.slug for target in all_targets())
    raise TargetError(f"There is no target '{name}'. There are: {known}.")
