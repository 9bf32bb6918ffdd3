"""M3U and M3U8: a path a line, with optional extended lines for length and title (common practice)."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import PlaylistError

__all__ = ["ListEntry", "read_m3u", "write_m3u"]

_LARGEST_LIST_BYTES = 64 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class ListEntry:
    """A line of a list: the file it means, and the title its extended line gave."""

    path: Path
    title: str = ""


def _decoded(raw: bytes) -> str:
    """UTF-8 where it is that, else Windows' Western code page, which older lists are written in."""
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")


def _located(text: str, folder: Path) -> Path:
    """Relative paths count from the list; backslashes are taken as separators where that finds a file."""
    path = folder / text
    if "\\" in text and not path.exists():
        path = folder / text.replace("\\", "/")
    return path


def read_m3u(path: Path) -> tuple[ListEntry, ...]:
    """Entries in order. Raises PlaylistError when the list cannot be read."""
    try:
        if path.stat().st_size > _LARGEST_LIST_BYTES:
            raise PlaylistError(f"{path.name} is too large to be a playlist.")
        text = _decoded(path.read_bytes())
    except OSError as error:
        raise PlaylistError(f"{path} cannot be read: {error.strerror}.") from error
    if "\0" in text:
        raise PlaylistError(f"{path.name} is no playlist.")
    entries, title = [], ""
    for line in text.splitlines():
        line = line.strip()
        if line.startswith("#EXTINF:"):
            title = line.partition(",")[2].strip()
        elif line and not line.startswith("#"):
            entries.append(ListEntry(path=_located(line, path.parent), title=title))
            title = ""
    return tuple(entries)


def write_m3u(entries: Sequence[ListEntry], seconds: Sequence[float]) -> str:
    """The text of an extended list, UTF-8, one entry's length in seconds for each."""
    lines = ["#EXTM3U"]
    for entry, length in zip(entries, seconds, strict=True):
        lines += [f"#EXTINF:{round(length)},{entry.title}", str(entry.path)]
    return "\n".join(lines) + "\n"
