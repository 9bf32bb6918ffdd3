"""PLS: numbered keys in one section (common practice)."""

import re
from pathlib import Path

from rumbrel.core.errors import PlaylistError

from .locating import located
from .model import ListEntry, TrackList, is_file, lines_of, one_line

__all__ = ["read_pls", "write_pls"]

_KEY = re.compile(r"(file|title|length)(\d{1,6})\s*=(.*)", re.IGNORECASE)


def read_pls(text: str, folder: Path) -> TrackList:
    """Raises PlaylistError when the section is missing."""
    if not re.search(r"^\s*\[playlist\]", text, re.IGNORECASE | re.MULTILINE):
        raise PlaylistError("The list has no section [playlist], so it is not a PLS.")
    rows: dict[int, dict[str, str]] = {}
    for line in lines_of(text):
        match = _KEY.match(line.lstrip(" \t"))
        if match:
            whole, plain = match[3], match[3].strip(" \t")
            is_name = match[1].lower() == "file" and whole != plain and is_file(located(whole, folder))
            rows.setdefault(int(match[2]), {})[match[1].lower()] = whole if is_name else plain
    entries = []
    for number in sorted(rows):
        row = rows[number]
        if row.get("file"):
            length = row.get("length", "")
            seconds = float(length) if length.isascii() and length.isdigit() else None
            performer, dash, name = row.get("title", "").partition(" - ")
            entries.append(
                ListEntry(
                    path=located(row["file"], folder), written=row["file"], title=name if dash else performer,
                    performer=performer if dash else "", seconds=seconds,
                )
            )  # fmt: skip
    return TrackList(entries=tuple(entries))


def write_pls(tracks: TrackList, places: list[str]) -> str:
    lines = ["[playlist]"]
    for number, (entry, place) in enumerate(zip(tracks.entries, places, strict=True), 1):
        lines.append(f"File{number}={f'./{place}' if place.startswith((' ', chr(9))) else place}")
        if entry.title:
            joined = f"{entry.performer} - {entry.title}" if entry.performer else entry.title
            lines.append(f"Title{number}={one_line(joined)}")
        lines.append(f"Length{number}={-1 if entry.seconds is None else round(entry.seconds)}")
    lines += [f"NumberOfEntries={len(tracks.entries)}", "Version=2"]
    return "\n".join(lines) + "\n"
