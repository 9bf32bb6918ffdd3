"""What is done with the collection."""

from .add_folder import FolderRefused, add_folder, allowed_roots, believe_loss, reread_old_facts, start_scan
from .check_fixity import (
    carry_out_fixity,
    keep_checksums,
    last_compared,
    manifest_of,
    plan_fixity,
    start_due_fixity,
    start_fixity,
    take_as_it_is,
)
from .choose_sound import choose_sound
from .cut_tracks import cut_track, cuttings_for, described_for, join_track, tracks_of_sheet
from .hear_track import Heard, TrackUnheard, hear_file, hear_seam, hear_track, see_that_it_is_there
from .keep_dropped import keep_dropped, keep_dropped_file, scan_dropped
from .keep_facts import keep_edited
from .keep_views import keep_view, remove_view, restore_view
from .look_at_tracks import NothingToLookAt, carry_out_looks, look_under_way, start_looks, sweep_pictures
from .make_bags import carry_out_bag, start_bag
from .pull_tracks import clear_pulls, pull_found, pull_tracks, restore_pulls, take_off_tracks, toggle_pull
from .recount import recount_folder
from .remove_folder import (
    FolderBusy,
    carry_out_removal,
    carry_out_removal_of_missing,
    folder_track_ids,
    remove_folder,
    rename_folder,
    start_removal,
)
from .remove_missing import missing_ids, remove_missing
from .scan_folder import scan_folder
from .show_cover import show_cover
from .watch_folders import look_at_watched, watch_folder

__all__ = [
    "FolderBusy",
    "FolderRefused",
    "Heard",
    "NothingToLookAt",
    "TrackUnheard",
    "add_folder",
    "allowed_roots",
    "believe_loss",
    "carry_out_bag",
    "carry_out_fixity",
    "carry_out_looks",
    "carry_out_removal",
    "carry_out_removal_of_missing",
    "choose_sound",
    "clear_pulls",
    "cut_track",
    "cuttings_for",
    "described_for",
    "folder_track_ids",
    "hear_file",
    "hear_seam",
    "hear_track",
    "join_track",
    "keep_checksums",
    "keep_dropped",
    "keep_dropped_file",
    "keep_edited",
    "keep_view",
    "last_compared",
    "look_at_watched",
    "look_under_way",
    "manifest_of",
    "missing_ids",
    "plan_fixity",
    "pull_found",
    "pull_tracks",
    "recount_folder",
    "remove_folder",
    "remove_missing",
    "remove_view",
    "rename_folder",
    "reread_old_facts",
    "restore_pulls",
    "restore_view",
    "scan_dropped",
    "scan_folder",
    "see_that_it_is_there",
    "show_cover",
    "start_bag",
    "start_due_fixity",
    "start_fixity",
    "start_looks",
    "start_removal",
    "start_scan",
    "sweep_pictures",
    "take_as_it_is",
    "take_off_tracks",
    "toggle_pull",
    "tracks_of_sheet",
    "watch_folder",
]
