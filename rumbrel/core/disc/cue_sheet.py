"""Cue sheets: written for any reader, read as a list of stretches (common practice)."""

import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePath

from rumbrel.core.errors import DiscError
from rumbrel.core.playlists.encoding import decoded_text

from .layout import DiscLayout, DiscTrack
from .red_book import MAX_TRACKS, format_msf, parse_msf
from .text import DiscText

__all__ = ["CueFile", "CueSheet", "CueTrack", "cue_sheet", "parse_cue_sheet", "quoted", "read_cue_file"]


def quoted(text: str) -> str:
    """The format has no escape for its quote, and a line is a line."""
    flat = re.sub(r"[\x00-\x1f\x7f]+", " ", text).replace('"', "'").strip()
    return f'"{flat}"'


def cue_sheet(
    layout: DiscLayout,
    text: DiscText,
    *,
    files: "CueFile | tuple[CueFile, ...]",
    text_file: str = "",
) -> str:
    """The sheet of a disc in one file, whose times count from address 0, or in a file for each track.

    A file for each track holds the track's sound alone; gaps are then stated as PREGAP.
    """
    lines = [f"CATALOG {text.product_code}"] if text.product_code else []
    if text_file:
        lines.append(f"CDTEXTFILE {quoted(text_file)}")
    lines += [
        f"{key} {quoted(value)}"
        for key, value in (
            ("TITLE", text.disc.title),
            ("PERFORMER", text.disc.performer),
            ("SONGWRITER", text.disc.songwriter),
        )
        if value
    ]
    if isinstance(files, CueFile):
        lines.append(f"FILE {quoted(files.name)} {files.kind}")
    for position, track in enumerate(layout.tracks):
        if not isinstance(files, CueFile):
            lines.append(f"FILE {quoted(files[position].name)} {files[position].kind}")
        lines += _track_lines(track, base=None if isinstance(files, CueFile) else track.start_sector)
    return "\n".join(lines) + "\n"


def _track_lines(track: DiscTrack, *, base: int | None) -> list[str]:
    programme = track.programme
    lines = [f"  TRACK {track.number:02d} AUDIO"]
    flags = [word for word, is_set in (("DCP", programme.copy_permitted), ("PRE", programme.pre_emphasis)) if is_set]
    texts = (("TITLE", programme.title), ("PERFORMER", programme.performer), ("SONGWRITER", programme.songwriter))
    lines += [f"    {key} {quoted(value)}" for key, value in texts if value]
    if programme.isrc:
        lines.append(f"    ISRC {programme.isrc}")
    if flags:
        lines.append(f"    FLAGS {' '.join(flags)}")
    if track.gap_sectors and base is not None:
        lines.append(f"    PREGAP {format_msf(track.gap_sectors, pad_minutes=True)}")
    elif track.gap_sectors:
        lines.append(f"    INDEX 00 {format_msf(track.start_sector - track.gap_sectors, pad_minutes=True)}")
    for number, mark in enumerate((track.start_sector, *track.index_sectors), 1):
        lines.append(f"    INDEX {number:02d} {format_msf(mark - (base or 0), pad_minutes=True)}")
    return lines


@dataclass(frozen=True, slots=True, kw_only=True)
class CueFile:
    """A file that a sheet cuts; kind is BINARY, WAVE, AIFF, MP3 or FLAC's usual stand-in WAVE."""

    name: str
    kind: str


@dataclass(frozen=True, slots=True, kw_only=True)
class CueTrack:
    """A track as a sheet states it, times in sectors from the beginning of its file.

    gap_sector is None without INDEX 00, which lies in gap_file where that is the file before. end_sector is where the
    next track, or its gap, begins in the same file; None where this one goes on to its end. silence_sectors is a
    PREGAP, postgap_sectors a POSTGAP: silence that no file holds.
    """

    number: int
    file: CueFile
    start_sector: int
    gap_sector: int | None = None
    gap_file: CueFile | None = None
    end_sector: int | None = None
    index_sectors: tuple[int, ...] = ()
    silence_sectors: int = 0
    postgap_sectors: int = 0
    title: str = ""
    performer: str = ""
    songwriter: str = ""
    isrc: str = ""
    pre_emphasis: bool = False
    copy_permitted: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class CueSheet:
    """tracks are those of sound; data_tracks are the numbers of the others on a mixed disc."""

    title: str
    performer: str
    product_code: str
    text_file: str
    tracks: tuple[CueTrack, ...]
    data_tracks: tuple[int, ...] = ()
    songwriter: str = ""

    @property
    def files(self) -> tuple[CueFile, ...]:
        """The files that it names for its tracks and their gaps, each once, in order."""
        named = (file for track in self.tracks for file in (track.gap_file, track.file) if file is not None)
        return tuple(dict.fromkeys(named))

    def gap_sector_of(self, track: CueTrack) -> int | None:
        """Where the sound in a track's gap begins: at INDEX 00, before the first track of a disc of sound at the beginning
        of its file; None where there is none."""
        is_first = track is self.tracks[0] and not self.data_tracks
        return 0 if is_first and track.gap_sector is None else track.gap_sector


@dataclass(slots=True)
class _Open:
    """The track that is being read; is_data says that it holds no sound."""

    number: int
    file: CueFile
    is_data: bool
    marks: dict[int, int] = field(default_factory=dict)
    gap_file: CueFile | None = None
    texts: dict[str, str] = field(default_factory=dict)
    flags: tuple[str, ...] = ()
    silence_sectors: int = 0
    postgap_sectors: int = 0

    @property
    def begin(self) -> int:
        """Where it begins in its own file."""
        return self.marks[1] if self.gap_file is not None else self.marks.get(0, self.marks[1])


_KINDS = frozenset({"BINARY", "WAVE", "AIFF", "MP3", "FLAC", "MOTOROLA"})
_DATA_MODES = frozenset({"CDG", "MODE1/2048", "MODE1/2352", "MODE2/2048", "MODE2/2324", "MODE2/2336", "MODE2/2352",
                         "CDI/2336", "CDI/2352"})  # fmt: skip
_LARGEST_SHEET_BYTES = 4 * 1024 * 1024


class _Reader:
    """Takes a sheet line by line."""

    def __init__(self) -> None:
        self._heads: dict[str, str] = {}
        self._file: CueFile | None = None
        self._open: _Open | None = None
        self._before: _Open | None = None
        self._tracks: list[CueTrack] = []
        self._data: list[int] = []
        self._odd_files: set[CueFile] = set()
        self._words: dict[str, Callable[[str], None]] = {
            "FILE": self._take_file, "TRACK": self._take_track, "INDEX": self._take_index,
            "FLAGS": self._take_flags, "PREGAP": self._take_pregap, "POSTGAP": self._take_postgap,
            "TITLE": lambda rest: self._take_text("title", rest),
            "PERFORMER": lambda rest: self._take_text("performer", rest),
            "SONGWRITER": lambda rest: self._take_text("songwriter", rest),
            "ISRC": lambda rest: self._take_text("isrc", rest),
            "CATALOG": lambda rest: self._heads.__setitem__("product_code", _unquoted(rest)),
            "CDTEXTFILE": lambda rest: self._heads.__setitem__("text_file", _beside(_unquoted(rest))),
            "REM": lambda rest: None,
        }  # fmt: skip

    def take(self, line: str) -> None:
        word, _, rest = line.strip().partition(" ")
        if word:
            handler = self._words.get(word.upper())
            if handler is None:
                raise ValueError(f"the word '{word[:20]}' is not known")
            handler(rest.strip())

    def _take_file(self, rest: str) -> None:
        name, _, kind = rest.rpartition(" ")
        if kind.upper() not in _KINDS:
            raise ValueError(f"'{kind[:20]}' is not a kind of file")
        file = CueFile(name=_beside(_unquoted(name)), kind=kind.upper())
        track = self._open
        if track is not None and 1 not in track.marks:
            # Its gap lies at the end of the file before, as is common practice for a file for each track.
            track.gap_file = track.file if 0 in track.marks else None
            track.file = file
        else:
            self._close()
        self._file = file

    def _take_track(self, rest: str) -> None:
        number, _, mode = rest.partition(" ")
        if self._file is None:
            raise ValueError("a track comes before any file")
        if not (number.isascii() and number.isdecimal()) or not 1 <= int(number) <= MAX_TRACKS:
            raise ValueError(f"'{number[:20]}' is not a track number from 1 to 99")
        mode = mode.strip().upper()
        if mode != "AUDIO" and mode not in _DATA_MODES:
            raise ValueError(f"'{mode[:20]}' is not a kind of track")
        self._close()
        self._open = _Open(int(number), self._file, is_data=mode != "AUDIO")
        if mode not in ("AUDIO", "CDG") and not mode.endswith("/2352"):
            self._odd_files.add(self._file)

    def _take_index(self, rest: str) -> None:
        number, _, time = rest.partition(" ")
        if self._open is None or not (number.isascii() and number.isdecimal()):
            raise ValueError("an index without its track or number")
        at, track = parse_msf(time), self._open
        earlier = [mark for index, mark in track.marks.items() if index or track.gap_file is None]
        if earlier and at < max(earlier):
            raise ValueError(f"the time {time} lies before an earlier one")
        track.marks[int(number)] = at

    def _take_flags(self, rest: str) -> None:
        if self._open is not None:
            self._open.flags = tuple(rest.upper().split())

    def _take_pregap(self, rest: str) -> None:
        if self._open is not None:
            self._open.silence_sectors = parse_msf(rest)

    def _take_postgap(self, rest: str) -> None:
        if self._open is not None:
            self._open.postgap_sectors = parse_msf(rest)

    def _take_text(self, name: str, rest: str) -> None:
        (self._open.texts if self._open is not None else self._heads)[name] = _unquoted(rest)

    def _close(self) -> None:
        track, self._open = self._open, None
        if track is None:
            return
        if 1 not in track.marks:
            raise ValueError(f"track {track.number} has no INDEX 01")
        before, self._before = self._before, track
        if before is not None and before.file == track.file and track.begin <= before.marks[1]:
            where = "where" if track.begin == before.marks[1] else "before"
            raise ValueError(f"track {track.number} begins {where} track {before.number} does in {track.file.name}")
        self._end_before(before, track)
        if track.is_data:
            self._data.append(track.number)
            return
        if track.file in self._odd_files:
            raise ValueError(f"{track.file.name} mixes sectors of different lengths")
        self._tracks.append(
            CueTrack(
                number=track.number, file=track.file, start_sector=track.marks[1], gap_sector=track.marks.get(0),
                gap_file=track.gap_file, index_sectors=tuple(at for n, at in sorted(track.marks.items()) if n > 1),
                silence_sectors=track.silence_sectors, postgap_sectors=track.postgap_sectors,
                title=track.texts.get("title", ""), performer=track.texts.get("performer", ""),
                songwriter=track.texts.get("songwriter", ""), isrc=track.texts.get("isrc", ""),
                pre_emphasis="PRE" in track.flags, copy_permitted="DCP" in track.flags,
            )
        )  # fmt: skip

    def _end_before(self, before: _Open | None, track: _Open) -> None:
        """Where the track before it ends, if that is one of sound."""
        if before is None or before.is_data:
            return
        if before.file == track.gap_file:
            self._tracks[-1] = replace(self._tracks[-1], end_sector=track.marks[0])
        elif before.file == track.file:
            self._tracks[-1] = replace(self._tracks[-1], end_sector=track.begin)

    def finish(self) -> CueSheet:
        self._close()
        if not self._tracks:
            raise ValueError("it names tracks of data alone" if self._data else "it names no tracks")
        return CueSheet(
            title=self._heads.get("title", ""), performer=self._heads.get("performer", ""),
            product_code=self._heads.get("product_code", ""), text_file=self._heads.get("text_file", ""),
            tracks=tuple(self._tracks), data_tracks=tuple(self._data), songwriter=self._heads.get("songwriter", ""),
        )  # fmt: skip


_LINE_ENDS = re.compile(r"\r\n|\n|\r")
"""Not every sign that Unicode takes for a line's end is one here: titles may hold them."""


def parse_cue_sheet(text: str) -> CueSheet:
    """Read a sheet. Raises DiscError naming the line that is wrong and why."""
    reader = _Reader()
    taken = 0
    try:
        for line in _LINE_ENDS.split(text.lstrip("\ufeff").replace("\t", " ")):
            taken += 1
            reader.take(line)
        return reader.finish()
    except ValueError as error:
        raise DiscError(f"Line {taken} of the cue sheet cannot be read: {error}.") from error


def read_cue_file(path: Path) -> CueSheet:
    """Read a sheet from a file, whose encoding is guessed as that of lists is. Raises DiscError."""
    try:
        if path.stat().st_size > _LARGEST_SHEET_BYTES:
            raise DiscError(f"{path.name} is too large to be a cue sheet.")
        raw = path.read_bytes()
    except OSError as error:
        raise DiscError(f"{path.name} cannot be read: {error.strerror}.") from error
    return parse_cue_sheet(decoded_text(raw))


def _beside(name: str) -> str:
    """The file's name; a place elsewhere is refused, since a sheet may come from anywhere."""
    plain = name.replace("\\", "/")
    if plain.startswith("/") or ".." in PurePath(plain).parts or re.match(r"^[A-Za-z]:", plain) or not plain:
        raise ValueError(f"the file '{name[:80]}' does not lie beside the sheet")
    return plain


def _unquoted(text: str) -> str:
    """Only the outer quotes: the format has no escape, so inner ones are the text's own."""
    text = text.strip()
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] == '"' else text.removeprefix('"').removesuffix('"')
