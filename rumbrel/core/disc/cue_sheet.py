"""Cue sheets for images: written for any reader, read for the read-back."""

import re
from dataclasses import dataclass
from pathlib import PurePath

from rumbrel.core.errors import DiscError

from .layout import DiscLayout
from .red_book import format_msf, parse_msf

__all__ = ["CueTrack", "cue_sheet", "parse_cue_sheet"]


def _quoted(text: str) -> str:
    """The format has no escape for its quote, and a line is a line."""
    flat = re.sub(r"[\x00-\x1f\x7f]+", " ", text).replace('"', "'").strip()
    return f'"{flat}"'


def cue_sheet(layout: DiscLayout, image_name: str, title: str) -> str:
    """The sheet of one BIN file that begins at address 0."""
    lines = [f"TITLE {_quoted(title)}", f"FILE {_quoted(image_name)} BINARY"]
    for track in layout.tracks:
        lines.append(f"  TRACK {track.number:02d} AUDIO")
        lines.append(f"    TITLE {_quoted(track.programme.title)}")
        if track.programme.performer:
            lines.append(f"    PERFORMER {_quoted(track.programme.performer)}")
        if track.gap_sectors:
            gap_start = track.start_sector - track.gap_sectors
            lines.append(f"    INDEX 00 {format_msf(gap_start, pad_minutes=True)}")
        lines.append(f"    INDEX 01 {format_msf(track.start_sector, pad_minutes=True)}")
    return "\n".join(lines) + "\n"


@dataclass(frozen=True, slots=True, kw_only=True)
class CueTrack:
    """A track as a sheet states it; gap_sector is None without INDEX 00."""

    number: int
    title: str
    gap_sector: int | None
    start_sector: int


def parse_cue_sheet(text: str) -> tuple[str, tuple[CueTrack, ...]]:
    """(image name, tracks) of a sheet with one file. Raises DiscError naming the line that is wrong."""
    image, tracks = "", []
    number, title = 0, ""
    gap: int | None = None
    for place, line in enumerate(text.splitlines(), 1):
        word, _, rest = line.strip().partition(" ")
        try:
            if word == "FILE":
                image = _unquoted(rest.rsplit(" ", 1)[0])
            elif word == "TRACK":
                number, title, gap = int(rest.split()[0]), "", None
            elif word == "TITLE" and number:
                title = _unquoted(rest)
            elif word == "INDEX":
                index, time = rest.split()
                if int(index) == 0:
                    gap = parse_msf(time)
                elif int(index) == 1:
                    tracks.append(CueTrack(number=number, title=title, gap_sector=gap, start_sector=parse_msf(time)))
        except (ValueError, IndexError) as error:
            raise DiscError(f"Line {place} of the cue sheet cannot be read: {error}.") from error
    if not image or PurePath(image).name != image:
        raise DiscError("The cue sheet must name one image file that lies beside it.")
    if not tracks:
        raise DiscError("The cue sheet names no tracks.")
    return image, tuple(tracks)


def _unquoted(text: str) -> str:
    return text.strip().removeprefix('"').removesuffix('"')
