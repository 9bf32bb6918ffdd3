"""What is done with playlists."""

from .bring_list import Brought, bring_list
from .change_list import Changed, add_tracks, change_list, known_ids, undo_list
from .delete_playlist import delete_playlist, forget_lists, restore_playlist, said_of
from .find_sheet import sheet_of
from .lose_tracks import lists_said, settle_lists
from .make_playlist import make_playlist

__all__ = [
    "Brought",
    "Changed",
    "add_tracks",
    "bring_list",
    "change_list",
    "delete_playlist",
    "forget_lists",
    "known_ids",
    "lists_said",
    "make_playlist",
    "restore_playlist",
    "said_of",
    "settle_lists",
    "sheet_of",
    "undo_list",
]
