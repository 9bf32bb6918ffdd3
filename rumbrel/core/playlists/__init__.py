"""Lists of tracks in the open formats."""

from .files import LIST_SUFFIXES, read_list, write_list
from .model import ListEntry, TrackList

__all__ = ["LIST_SUFFIXES", "ListEntry", "TrackList", "read_list", "write_list"]
