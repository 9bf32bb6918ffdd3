"""What is done with playlists."""

from .make_playlist import make_playlist
from .order_entries import move_entry, order_entries, remove_entry

__all__ = ["make_playlist", "move_entry", "order_entries", "remove_entry"]
