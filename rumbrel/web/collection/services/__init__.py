"""What is done with the collection."""

from .add_folder import FolderRefused, add_folder, reread_old_facts, start_scan
from .keep_dropped import keep_dropped
from .pull_tracks import clear_pulls, pull_found, restore_pulls, toggle_pull
from .scan_folder import recount_folder, scan_folder

__all__ = [
    "FolderRefused",
    "add_folder",
    "clear_pulls",
    "keep_dropped",
    "pull_found",
    "recount_folder",
    "reread_old_facts",
    "restore_pulls",
    "scan_folder",
    "start_scan",
    "toggle_pull",
]
