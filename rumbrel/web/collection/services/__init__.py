"""What is done with the collection."""

from .add_folder import FolderRefused, add_folder, believe_loss, reread_old_facts, start_scan
from .keep_dropped import keep_dropped
from .pull_tracks import clear_pulls, pull_found, restore_pulls, toggle_pull
from .remove_missing import missing_ids, remove_missing
from .scan_folder import recount_folder, scan_folder

__all__ = [
    "FolderRefused",
    "add_folder",
    "believe_loss",
    "clear_pulls",
    "keep_dropped",
    "missing_ids",
    "pull_found",
    "recount_folder",
    "remove_missing",
    "reread_old_facts",
    "restore_pulls",
    "scan_folder",
    "start_scan",
    "toggle_pull",
]
