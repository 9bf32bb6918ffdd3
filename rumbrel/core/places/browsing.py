"""Folders of this machine as a user walks through them, never out of those that are allowed."""

import os
import time
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import RumbrelError

__all__ = ["Counted", "FolderError", "ListedFolder", "count_files", "list_folder"]

_MOST_LISTED = 500


class FolderError(RumbrelError):
    """A folder that may not be looked into, or cannot."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ListedFolder:
    """A folder: those in it by name, how many files of the wanted kinds lie in it itself, and the one above, None
    where that is not allowed. more says how many folders are not listed."""

    path: Path
    parent: Path | None
    folders: tuple[Path, ...]
    files: int
    more: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Counted:
    """So many files of the wanted kinds lie below a folder; whole is False where the count was given up."""

    files: int
    whole: bool


def _allowed(path: Path, roots: Collection[Path]) -> bool:
    return any(path.is_relative_to(root) for root in roots)


def list_folder(path: Path, *, roots: Collection[Path], suffixes: Collection[str]) -> ListedFolder:
    """What lies in a folder, links resolved first; hidden folders and links that lead out are left out. roots are
    resolved. Raises FolderError."""
    try:
        real = path.resolve(strict=True)
        if not _allowed(real, roots):
            raise FolderError(f"{path} lies outside the folders that Rumbrel may read.")
        with os.scandir(real) as entries:
            found = sorted(entries, key=lambda entry: entry.name.casefold())
    except PermissionError as error:
        raise FolderError(f"Rumbrel may not look into {path}. Change its permissions, or choose another.") from error
    except (OSError, RuntimeError, ValueError) as error:
        raise FolderError(f"{path} is no longer there. Choose another folder.") from error
    folders = [Path(entry.path) for entry in found if _is_shown(entry, roots)]
    files = sum(
        os.path.splitext(entry.name)[1].lower() in suffixes for entry in found if not entry.name.startswith(".")
    )
    parent = real.parent if real != real.parent and _allowed(real.parent, roots) else None
    return ListedFolder(
        path=real, parent=parent, folders=tuple(folders[:_MOST_LISTED]), files=files,
        more=max(0, len(folders) - _MOST_LISTED),
    )  # fmt: skip


def _is_shown(entry: "os.DirEntry[str]", roots: Collection[Path]) -> bool:
    if entry.name.startswith("."):
        return False
    try:
        return entry.is_dir() and (not entry.is_symlink() or _allowed(Path(entry.path).resolve(strict=True), roots))
    except (OSError, RuntimeError):
        return False


def count_files(path: Path, *, roots: Collection[Path], suffixes: Collection[str], seconds: float) -> Counted:
    """How many files of the wanted kinds lie below a folder, counted for at most so long; links are not followed.
    Raises FolderError."""
    real = path.resolve()
    if not _allowed(real, roots):
        raise FolderError(f"{path} lies outside the folders that Rumbrel may read.")
    until, files = time.monotonic() + seconds, 0
    for _, folders, names in os.walk(real):
        folders[:] = [name for name in folders if not name.startswith(".")]
        files += sum(os.path.splitext(name)[1].lower() in suffixes for name in names if not name.startswith("."))
        if time.monotonic() > until:
            return Counted(files=files, whole=False)
    return Counted(files=files, whole=True)
