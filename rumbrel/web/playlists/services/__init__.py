"""What is done with playlists."""

from .delete_playlist import delete_playlist, forget_lists, restore_playlist, said_of
from .lose_tracks import lists_said, settle_lists
from .make_playlist import make_playlist
from .order_entries import move_entry, order_entries, remove_entry

__all__ = [
    "delete_playlist",
    "forget_lists",
    "lists_said",
    "make_playlist",
    "move_entry",
    "order_entries",
    "remove_entry",
    "restore_playlist",
    "said_of",
    "settle_lists",
]
