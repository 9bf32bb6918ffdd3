"""Source folders that are watched: scanned when something in them has changed and come to rest."""

import os
from pathlib import Path

import xxhash

from rumbrel.core.forecast import walk_folder

from ..models import SourceFolder
from .add_folder import allowed_roots, start_scan

__all__ = ["look_at_watched", "watch_folder"]


def watch_folder(*, folder: SourceFolder, watched: bool) -> None:
    """Watch a folder, or no more. What changed before is found at the first look."""
    SourceFolder.objects.filter(pk=folder.pk).update(watched=watched, scanned_state="", seen_state="")


def look_at_watched() -> int:
    """Have those folders scanned that differ from what was scanned last, and are as they were at the look before:
    what is still being copied is left to come to rest. Returns how many."""
    begun = 0
    for folder in SourceFolder.objects.filter(watched=True):
        root = Path(folder.path)
        if not root.is_dir():
            # Its disk is not connected: that is no change.
            continue
        state = _state_of(root)
        rests = state == folder.seen_state
        if rests and state != folder.scanned_state:
            start_scan(folder=folder)
            folder.scanned_state = state
            begun += 1
        folder.seen_state = state
        folder.save(update_fields=["scanned_state", "seen_state"])
    return begun


def _state_of(root: Path) -> str:
    """A digest of names, sizes and times of all files below a folder."""
    digest = xxhash.xxh3_128()
    for path in walk_folder(root, roots=allowed_roots()).files:
        try:
            status = os.stat(path)
        except OSError:
            # A link that leads nowhere; the scan says so.
            continue
        digest.update(os.fsencode(path) + f"\0{status.st_size} {status.st_mtime_ns}\0".encode())
    return digest.hexdigest()
