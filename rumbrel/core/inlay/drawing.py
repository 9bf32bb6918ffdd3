"""The drawing of a piece: texts, lines and shapes in mm from its upper left corner, the same for paper and screen."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from rumbrel.core.disc.red_book import SECTORS_PER_SECOND

from .contents import InlayContents, InlayTrack
from .fonts import MM_A_POINT, lacking, width_mm
from .pieces import FACE_MM, HOLE_MM, SPINE_MM, Piece

__all__ = ["SMALLEST_PT", "Box", "Drawing", "Line", "Ring", "Text", "draw"]

SMALLEST_PT = 5.0
"""Smaller type is not read in a hand's distance (our own limit)."""
_LARGEST_PT = 9.0
_STEP_PT = 0.5
_MOST_COLUMNS = 3
_LEADING = 1.32
_MARGIN_MM = 5.0
_GUTTER_MM = 5.0
INK, SECOND, ACCENT, PALE = "#1b1f1d", "#5b605a", "#0d6a5d", "#b5cec3"


@dataclass(frozen=True, slots=True)
class Text:
    """x and y are the base line's beginning, its middle or its end, by anchor. turned is clockwise, in degrees."""

    x: float
    y: float
    text: str
    size_pt: float
    weight: str = "regular"
    anchor: str = "start"
    colour: str = INK
    turned: int = 0


@dataclass(frozen=True, slots=True)
class Line:
    x1: float
    y1: float
    x2: float
    y2: float
    width: float = 0.2
    colour: str = INK
    dashed: bool = False


@dataclass(frozen=True, slots=True)
class Box:
    x: float
    y: float
    width: float
    height: float
    colour: str


@dataclass(frozen=True, slots=True)
class Ring:
    x: float
    y: float
    radius: float
    width: float
    colour: str


Mark = Text | Line | Box | Ring


@dataclass(frozen=True, slots=True, kw_only=True)
class Drawing:
    """size_pt is the type of its list, left_over the tracks that had no room at the smallest, lacks the characters
    that the fonts do not hold."""

    piece: Piece
    marks: tuple[Mark, ...]
    size_pt: float
    columns: int
    left_over: int
    lacks: str

    @property
    def said(self) -> list[str]:
        """What the user has to know of it."""
        found = []
        if self.left_over:
            tracks = "1 track has" if self.left_over == 1 else f"{self.left_over} tracks have"
            found.append(
                f"{tracks} no room even in type of {SMALLEST_PT:g} points. Shorten titles, or take another piece."
            )
        if self.lacks:
            found.append(f"The font does not hold {' '.join(self.lacks)}; a question mark is printed instead.")
        return found


def draw(piece: Piece, contents: InlayContents, variant: str) -> Drawing:
    """The piece in one of our designs."""
    rooms = {"inlay": _inlay, "front": _front, "slim": _slim, "face": _face}
    marks, listed = rooms[piece.key](piece, contents, variant)
    words = "".join(mark.text for mark in marks if isinstance(mark, Text))
    size, columns, left = listed if listed else (0.0, 0, 0)
    return Drawing(piece=piece, marks=tuple(marks), size_pt=size, columns=columns, left_over=left, lacks=lacking(words))


def _cut(text: str, room_mm: float, size_pt: float, weight: str = "regular") -> str:
    """The text, or as much of it as has room, with a mark of what is missing."""
    if width_mm(text, size_pt, weight) <= room_mm:
        return text
    while text and width_mm(f"{text}…", size_pt, weight) > room_mm:
        text = text[:-1]
    return f"{text.rstrip()}…"


def _largest(text: str, room_mm: float, sizes: Sequence[float], weight: str = "bold") -> float:
    """The largest of some sizes in which a text has room; the smallest where it has in none."""
    return next((size for size in sizes if width_mm(text, size, weight) <= room_mm), sizes[-1])


def _head(x: float, y: float, room: float, contents: InlayContents, sizes: Sequence[float]) -> tuple[list[Mark], float]:
    """Title and performer; returns where they end."""
    size = _largest(contents.title, room, sizes)
    at = y + size * MM_A_POINT
    marks: list[Mark] = [Text(x, at, _cut(contents.title, room, size, "bold"), size, "bold")]
    if contents.performer:
        small = max(SMALLEST_PT + 2, size * 0.55)
        at += small * MM_A_POINT * 1.5
        marks.append(Text(x, at, _cut(contents.performer, room, small), small, colour=SECOND))
    return marks, at + 2.2


def _listed(
    tracks: Sequence[InlayTrack], x: float, y: float, width: float, height: float
) -> tuple[list[Mark], tuple[float, int, int]]:
    """The list of tracks: in larger type or fewer columns where that has room. Returns (type, columns, how many had
    no room)."""
    size, columns = _chosen(tracks, width, height)
    leading = size * _LEADING * MM_A_POINT
    most = max(1, int(height / leading))
    rows = min(most, math.ceil(len(tracks) / columns))
    shown = tracks[: rows * columns]
    each = (width - _GUTTER_MM * (columns - 1)) / columns
    marks: list[Mark] = []
    for position, track in enumerate(shown):
        column, row = divmod(position, rows)
        left, base = x + column * (each + _GUTTER_MM), y + row * leading + size * MM_A_POINT
        marks += _line_of(track, left, base, each, size)
    return marks, (size, columns, len(tracks) - len(shown))


def _number_mm(size: float) -> float:
    return width_mm("00", size) + 1.4


def _said(track: InlayTrack) -> str:
    return f"{track.title} · {track.performer}" if track.performer else track.title


def _chosen(tracks: Sequence[InlayTrack], width: float, height: float) -> tuple[float, int]:
    """The type and the columns of a list: as large as its height allows, but a title that is cut counts against it.
    Where nothing has room, the smallest type in most columns."""
    best, chosen = -1.0, (SMALLEST_PT, _MOST_COLUMNS)
    size = _LARGEST_PT
    while size >= SMALLEST_PT:
        for columns in range(1, _MOST_COLUMNS + 1):
            rows = math.ceil(len(tracks) / columns)
            if rows * size * _LEADING * MM_A_POINT > height:
                continue
            worth = size * (1 - _cut_titles(tracks, width, columns, size) / max(1, len(tracks)))
            if worth > best:
                best, chosen = worth, (size, columns)
        size -= _STEP_PT
    return chosen


def _cut_titles(tracks: Sequence[InlayTrack], width: float, columns: int, size: float) -> int:
    """How many titles would have to be cut."""
    each = (width - _GUTTER_MM * (columns - 1)) / columns - _number_mm(size) - width_mm("00:00", size) - 2.0
    return sum(1 for track in tracks if width_mm(_said(track), size) > each)


def _line_of(track: InlayTrack, x: float, base: float, width: float, size: float) -> list[Mark]:
    number = _number_mm(size)
    time = width_mm(track.time, size)
    room = width - number - time - 2.0
    return [
        Text(x + number - 1.4, base, str(track.number), size, anchor="end", colour=SECOND),
        Text(x + number, base, _cut(_said(track), room, size), size),
        Text(x + width, base, track.time, size, anchor="end", colour=SECOND),
    ]


def _foot(x: float, y: float, width: float, contents: InlayContents) -> list[Mark]:
    """The total, and the code where there is one."""
    count = "1 track" if len(contents.tracks) == 1 else f"{len(contents.tracks)} tracks"
    marks: list[Mark] = [
        Line(x, y - 4.2, x + width, y - 4.2, 0.25),
        Text(x, y, f"{count}, {contents.total}", 7.0, colour=SECOND),
    ]
    if contents.product_code:
        marks.append(Text(x + width, y, contents.product_code, 7.0, anchor="end", colour=SECOND))
    return marks


def _time_ruler(x: float, y: float, width: float, contents: InlayContents) -> list[Mark]:
    """The tracks as lengths against the medium's end."""
    end = max(contents.total_sectors, contents.capacity_sectors)
    scale = width / end
    marks: list[Mark] = [
        Box(x + track.start_sector * scale, y, max(0.2, track.sectors * scale - 0.25), 4.0, PALE if n % 2 else ACCENT)
        for n, track in enumerate(contents.tracks)
    ]
    marks.append(Line(x, y + 4.6, x + width, y + 4.6, 0.25))
    step = 10 if end / SECTORS_PER_SECOND / 60 > 30 else 5
    for minute in range(0, int(end / SECTORS_PER_SECOND / 60) + 1, step):
        at = x + minute * 60 * SECTORS_PER_SECOND * scale
        marks.append(Line(at, y + 4.6, at, y + 6.0, 0.2))
        marks.append(Text(at + 0.6, y + 7.4, str(minute), 5.0, colour=SECOND))
    return marks


def _groove(x: float, y: float, radius: float, contents: InlayContents) -> list[Mark]:
    """Where the tracks lie on the disc, in proportion; radius is the rim's."""
    scale = radius / 60.0
    marks: list[Mark] = [Ring(x, y, radius, 0.2, SECOND), Ring(x, y, 7.5 * scale, 0.2, SECOND)]
    for number, track in enumerate(contents.tracks):
        inner, outer = track.from_mm * scale, track.to_mm * scale
        colour = PALE if number % 2 else ACCENT
        marks.append(Ring(x, y, (inner + outer) / 2, max(0.15, outer - inner - 0.15), colour))
    return marks


Listed = tuple[float, int, int]


def _spine(x: float, piece: Piece, contents: InlayContents, turned: int) -> list[Mark]:
    """The title along a folded edge: read from above at the left, as shelves are."""
    room = piece.height_mm - 2 * _MARGIN_MM
    words = " · ".join(part for part in (contents.title, contents.performer) if part)
    size = _largest(words, room, (9.0, 8.0, 7.0, 6.0, 5.0))
    text = _cut(words, room, size, "bold")
    base = SPINE_MM / 2 - size * MM_A_POINT * 0.36
    if turned > 0:
        return [Text(x + base, _MARGIN_MM, text, size, "bold", turned=90)]
    return [Text(x + SPINE_MM - base, piece.height_mm - _MARGIN_MM, text, size, "bold", turned=-90)]


def _inlay(piece: Piece, contents: InlayContents, variant: str) -> tuple[list[Mark], Listed]:
    left, right = SPINE_MM + _MARGIN_MM, piece.width_mm - SPINE_MM - _MARGIN_MM
    width = right - left
    marks: list[Mark] = _spine(0.0, piece, contents, -90) + _spine(piece.width_mm - SPINE_MM, piece, contents, 90)
    head, y = _head(left, _MARGIN_MM, width - (34 if variant == "groove" else 0), contents, (15.0, 13.0, 11.0, 9.0))
    marks += head
    bottom = piece.height_mm - _MARGIN_MM
    list_width = width
    if variant == "ruler":
        marks += _time_ruler(left, y, width, contents)
        y += 10.0
    elif variant == "groove":
        marks += _groove(right - 15.0, _MARGIN_MM + 15.0, 15.0, contents)
        list_width = width - 36.0
    else:
        marks.append(Line(left, y, right, y, 0.35))
        y += 2.2
    marks += _foot(left, bottom, width, contents)
    rows, listed = _listed(contents.tracks, left, y, list_width, bottom - 6.5 - y)
    return marks + rows, listed


def _front(piece: Piece, contents: InlayContents, variant: str) -> tuple[list[Mark], None]:
    return _front_at(0.0, piece.height_mm, contents, variant), None


def _front_at(x: float, size_mm: float, contents: InlayContents, variant: str) -> list[Mark]:
    """A front of 120 mm, beginning at x."""
    left, width = x + 9.0, size_mm - 18.0
    marks: list[Mark] = []
    if variant == "groove":
        marks += _groove(x + size_mm / 2, 72.0, 40.0, contents)
        head, _ = _head(left, 9.0, width, contents, (24.0, 20.0, 17.0, 14.0, 11.0, 9.0))
        return marks + head
    head, y = _head(left, 34.0, width, contents, (26.0, 22.0, 18.0, 15.0, 12.0, 9.0))
    marks += head
    if variant == "ruler":
        marks += _time_ruler(left, y + 4.0, width, contents)
    else:
        marks += [Line(left, 30.0, left + width, 30.0, 0.6), Line(left, y + 2.0, left + width, y + 2.0, 0.25)]
    count = "1 track" if len(contents.tracks) == 1 else f"{len(contents.tracks)} tracks"
    marks.append(Text(left, size_mm - 9.0, f"{count}, {contents.total}", 8.0, colour=SECOND))
    return marks


def _slim(piece: Piece, contents: InlayContents, variant: str) -> tuple[list[Mark], Listed]:
    """Folded once: the list lies inside at the left, the front at the right."""
    half = piece.width_mm / 2
    left, width = _MARGIN_MM + 2.0, half - 2 * (_MARGIN_MM + 2.0)
    marks = _front_at(half, piece.height_mm, contents, variant)
    bottom = piece.height_mm - _MARGIN_MM
    marks += _foot(left, bottom, width, contents)
    rows, listed = _listed(contents.tracks, left, _MARGIN_MM + 2.0, width, bottom - 6.5 - _MARGIN_MM - 2.0)
    return marks + rows, listed


def _face(piece: Piece, contents: InlayContents, variant: str) -> tuple[list[Mark], None]:
    """Title above the hole, performer and times below; nothing is printed over the hole."""
    middle = FACE_MM / 2
    marks: list[Mark] = [
        Ring(middle, middle, FACE_MM / 2 - 0.1, 0.2, PALE),
        Ring(middle, middle, HOLE_MM / 2 + 0.1, 0.2, PALE),
    ]
    if variant == "groove":
        marks += [
            Ring(middle, middle, (track.from_mm + min(57.0, track.to_mm)) / 2, 0.5, PALE)
            for track in contents.tracks if track.from_mm < 57.0
        ]  # fmt: skip
    # The ring is as wide as the chord at the height of the words.
    room = 2 * math.sqrt((FACE_MM / 2 - 5) ** 2 - 26.0**2)
    size = _largest(contents.title, room, (16.0, 14.0, 12.0, 10.0, 8.0))
    marks.append(Text(middle, middle - 24.0, _cut(contents.title, room, size, "bold"), size, "bold", "middle"))
    if contents.performer:
        marks.append(Text(middle, middle + 24.0, _cut(contents.performer, room, 10.0), 10.0, anchor="middle"))
    count = "1 track" if len(contents.tracks) == 1 else f"{len(contents.tracks)} tracks"
    marks.append(Text(middle, middle + 31.0, f"{count}, {contents.total}", 8.0, anchor="middle", colour=SECOND))
    if variant == "ruler":
        marks += _time_ruler(middle - 32.0, middle + 36.0, 64.0, contents)
    return marks, None
