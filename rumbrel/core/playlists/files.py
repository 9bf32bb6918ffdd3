"""Lists as files: read by their ending and content, written whole or not at all."""

import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from rumbrel.core.errors import PlaylistError
from rumbrel.core.files import write_whole

from .encoding import decoded_text, western_text
from .locating import Agrees, settled
from .m3u import read_m3u, write_m3u
from .model import TrackList
from .pls import read_pls, write_pls
from .xspf import read_xspf, write_xspf

__all__ = ["LIST_SUFFIXES", "read_list", "write_list"]

_LARGEST_LIST_BYTES = 64 * 1024 * 1024
LIST_SUFFIXES = (".m3u8", ".m3u", ".pls", ".xspf")


def read_list(path: Path, *, agrees: Agrees | None = None) -> TrackList:
    """Entries in order, missing ones looked for nearby; agrees is asked whether a file is what an entry
    describes. Raises PlaylistError when the list cannot be read."""
    try:
        if path.stat().st_size > _LARGEST_LIST_BYTES:
            raise PlaylistError(f"{path.name} is too large to be a playlist.")
        raw = path.read_bytes()
    except OSError as error:
        raise PlaylistError(f"{path} cannot be read: {error.strerror}.") from error
    folder = path.absolute().parent
    if raw.lstrip()[:5] == b"<?xml" or b"xspf.org/ns/0" in raw[:2000]:
        tracks = read_xspf(raw, folder)
    else:
        text = decoded_text(raw)
        if "\0" in text:
            raise PlaylistError(f"{path.name} is not a playlist.")
        is_pls = text.lstrip("\ufeff \r\n\t")[:10].lower() == "[playlist]"
        tracks = read_pls(text, folder) if is_pls or path.suffix.lower() == ".pls" else read_m3u(text, folder)
    return replace(tracks, entries=settled(tracks.entries, folder, agrees))


_WRITERS: dict[str, Callable[[TrackList, list[str]], str]] = {
    ".m3u8": write_m3u,
    ".m3u": write_m3u,
    ".pls": write_pls,
    ".xspf": write_xspf,
}


def write_list(tracks: TrackList, path: Path, *, relative: bool = True) -> None:
    """Write a list in the format of its ending. Raises PlaylistError for another ending, OutputError where it cannot be written.

    Relative places count from the list. M3U is written in Windows' Western code page where that
    holds every name, since players that want M3U and not M3U8 read that.
    """
    write = _WRITERS.get(path.suffix.lower())
    if write is None:
        raise PlaylistError(f"A list is written as {', '.join(LIST_SUFFIXES)}, not as '{path.suffix}'.")
    folder = path.absolute().parent
    places = [entry.written if entry.is_elsewhere else _place(entry.path, folder, relative) for entry in tracks.entries]
    for place in places:
        if ("\n" in place or "\r" in place) and path.suffix.lower() != ".xspf":
            raise PlaylistError(f"A name with a line break cannot stand in such a list: {place!r}. Write XSPF.")
    text = write(tracks, places)
    raw = text.encode("utf-8", "surrogateescape")
    if path.suffix.lower() == ".m3u":
        raw = western_text(text) or raw
    write_whole(path, raw)


def _place(path: Path, folder: Path, relative: bool) -> str:
    absolute = os.path.abspath(path)
    return os.path.relpath(absolute, folder) if relative else absolute
