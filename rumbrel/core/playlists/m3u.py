"""M3U and M3U8: a path a line, with optional extended lines for length and title (common practice)."""

from pathlib import Path

from .locating import located
from .model import ListEntry, TrackList, is_file, lines_of, one_line

__all__ = ["read_m3u", "write_m3u"]


def read_m3u(text: str, folder: Path) -> TrackList:
    entries: list[ListEntry] = []
    title, seconds, album, list_title = "", None, "", ""
    for whole in lines_of(text):
        line = whole.strip(" \t")
        if line.startswith("#EXTINF:"):
            length, _, title = line[8:].partition(",")
            seconds = _seconds(length.split(" ")[0])
        elif line.startswith("#EXTALB:"):
            album = line[8:].strip()
        elif line.startswith("#PLAYLIST:"):
            list_title = line[10:].strip()
        elif line and not line.startswith("#"):
            performer, name = _parted(title.strip())
            # Blanks at a name's ends are its own where there is such a file.
            written = whole if whole != line and is_file(located(whole, folder)) else line
            entries.append(
                ListEntry(
                    path=located(written, folder), written=written, title=name, performer=performer, album=album,
                    seconds=seconds,
                )
            )  # fmt: skip
            title, seconds, album = "", None, ""
    return TrackList(entries=tuple(entries), title=list_title)


def _seconds(text: str) -> float | None:
    """A length; -1 stands for one that is not known."""
    try:
        value = float(text)
    except ValueError:
        return None
    return value if 0 <= value < 1e7 else None


def _parted(title: str) -> tuple[str, str]:
    """Performer and title, which the extended line joins by a dash between spaces."""
    performer, dash, name = title.partition(" - ")
    return (performer, name) if dash else ("", title)


def write_m3u(tracks: TrackList, paths: list[str]) -> str:
    """The text of an extended list; paths say where each entry is, as the list shall state it."""
    lines = ["#EXTM3U"]
    if tracks.title:
        lines.append(f"#PLAYLIST:{one_line(tracks.title)}")
    for entry, path in zip(tracks.entries, paths, strict=True):
        if entry.title or entry.seconds is not None:
            joined = f"{entry.performer} - {entry.title}" if entry.performer else entry.title
            length = -1 if entry.seconds is None else round(entry.seconds)
            lines.append(f"#EXTINF:{length},{one_line(joined)}")
        if entry.album:
            lines.append(f"#EXTALB:{one_line(entry.album)}")
        # A name that begins with the sign of a remark would be taken for one, and a blank there for none.
        lines.append(f"./{path}" if path.startswith(("#", " ", "\t")) else path)
    return "\n".join(lines) + "\n"
