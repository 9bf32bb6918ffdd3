"""Lists of tracks in the open formats."""

from .m3u import ListEntry, read_m3u, write_m3u

__all__ = ["ListEntry", "read_m3u", "write_m3u"]
