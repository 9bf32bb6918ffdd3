"""The drawing of a piece: texts, lines and shapes in mm from its upper left corner, the same for paper and screen."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from .contents import InlayContents, InlayTrack
from .fonts import MM_A_POINT, lacking, width_mm, wrapped
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
    that the fonts do not hold. It is page so and so of that many."""

    piece: Piece
    marks: tuple[Mark, ...]
    size_pt: float
    columns: int
    left_over: int
    lacks: str
    page: int = 1
    pages: int = 1

    @property
    def said(self) -> list[str]:
        """What the user has to know of it."""
        found = []
        if self.left_over:
            tracks = "The last track stands" if self.left_over == 1 else f"The last {self.left_over} tracks stand"
            found.append(
                f"{tracks} on the booklet pages alone: there is no room for more in type of {SMALLEST_PT:g} points."
            )
        if self.lacks:
            found.append(f"The fonts do not hold {' '.join(self.lacks)}; a question mark is printed instead.")
        return found


def draw(piece: Piece, contents: InlayContents, variant: str) -> tuple[Drawing, ...]:
    """The piece in one of our designs, page by page."""
    rooms = {"inlay": _inlay, "front": _front, "slim": _slim, "face": _face}
    if piece.key == "booklet":
        drawn: list[tuple[list[Mark], Listed | None]] = list(_booklet(piece, contents))
    else:
        drawn = [rooms[piece.key](piece, contents, variant)]
    return tuple(_drawing(piece, marks, listed, page, len(drawn)) for page, (marks, listed) in enumerate(drawn, 1))


def _drawing(piece: Piece, marks: list[Mark], listed: "Listed | None", page: int, pages: int) -> Drawing:
    words = "".join(mark.text for mark in marks if isinstance(mark, Text))
    size, columns, left = listed if listed else (0.0, 0, 0)
    return Drawing(
        piece=piece, marks=tuple(marks), size_pt=size, columns=columns, left_over=left, lacks=lacking(words), page=page,
        pages=pages,
    )  # fmt: skip


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


_MOST_HEAD_LINES = 3


def _head(x: float, y: float, room: float, contents: InlayContents, sizes: Sequence[float]) -> tuple[list[Mark], float]:
    """Title and performer, in as many lines as they need; returns where they end."""
    size = _in_lines(contents.title, room, sizes, "bold")
    at = y
    marks: list[Mark] = []
    for line in wrapped(contents.title, room, size, "bold"):
        at += size * MM_A_POINT * (1.15 if marks else 1.0)
        marks.append(Text(x, at, line, size, "bold"))
    small = max(SMALLEST_PT + 2, size * 0.55)
    for number, line in enumerate(wrapped(contents.performer, room, small) if contents.performer else ()):
        at += small * MM_A_POINT * (1.2 if number else 1.5)
        marks.append(Text(x, at, line, small, colour=SECOND))
    return marks, at + 2.2


def _in_lines(text: str, room: float, sizes: Sequence[float], weight: str) -> float:
    """The largest of some sizes in which a text stands in one line, else in few; the smallest where it needs more."""
    larger = sizes[: (len(sizes) + 1) // 2]
    for most, tried in ((1, larger), (2, sizes), (_MOST_HEAD_LINES, sizes)):
        for size in tried:
            if len(wrapped(text, room, size, weight)) <= most:
                return size
    return sizes[-1]


@dataclass(frozen=True, slots=True)
class _Flow:
    """Tracks in lines of some type, column by column: each with its lines, where all that had room stand."""

    size: float
    columns: int
    placed: tuple[tuple[int, int, InlayTrack, tuple[str, ...]], ...]
    """(column, line in it, track, its lines)."""
    count: int


def _listed(
    tracks: Sequence[InlayTrack], x: float, y: float, width: float, height: float
) -> tuple[list[Mark], tuple[float, int, int]]:
    """The list of tracks: in larger type or fewer columns where that has room, long titles in several lines. Returns
    (type, columns, how many had no room)."""
    flow = _chosen(tracks, width, height, SMALLEST_PT)
    return _set(flow, x, y, width), (flow.size, flow.columns, len(tracks) - flow.count)


def _set(flow: _Flow, x: float, y: float, width: float) -> list[Mark]:
    each = _column_mm(width, flow.columns)
    leading = flow.size * _LEADING * MM_A_POINT
    marks: list[Mark] = []
    for column, line, track, lines in flow.placed:
        left = x + column * (each + _GUTTER_MM)
        base = y + line * leading + flow.size * MM_A_POINT
        marks += _lines_of(track, lines, left, base, each, flow.size)
    return marks


def _column_mm(width: float, columns: int) -> float:
    return (width - _GUTTER_MM * (columns - 1)) / columns


def _number_mm(size: float) -> float:
    return width_mm("00", size) + 1.4


def _room_mm(each: float, size: float) -> float:
    """What a title has of a column."""
    return each - _number_mm(size) - width_mm("00:00", size) - 2.0


def _said(track: InlayTrack) -> str:
    return f"{track.title} · {track.performer}" if track.performer else track.title


def _chosen(tracks: Sequence[InlayTrack], width: float, height: float, smallest: float) -> _Flow:
    """The type and the columns in which all tracks have room, in the largest type; where they have in none, the most
    tracks in the smallest."""
    best: _Flow | None = None
    size = _LARGEST_PT
    while size >= smallest:
        for columns in range(1, _MOST_COLUMNS + 1):
            if columns > 1 and _room_mm(_column_mm(width, columns), size) < _LEAST_ROOM_MM:
                continue
            flow = _flowing(tracks, width, height, size, columns)
            if flow.count == len(tracks):
                return flow
            if best is None or flow.count >= best.count:
                best = flow
        size -= _STEP_PT
    assert best is not None
    return best


_LEAST_ROOM_MM = 18.0
"""A column with less for its titles is not read with ease (our own limit)."""


def _flowing(tracks: Sequence[InlayTrack], width: float, height: float, size: float, columns: int) -> _Flow:
    """As many tracks as have room, none of them divided between columns, which end as evenly as their lines allow."""
    room = _room_mm(_column_mm(width, columns), size)
    most = max(1, int(height / (size * _LEADING * MM_A_POINT)))
    lines = [tuple(wrapped(_said(track), room, size)) for track in tracks]
    total = sum(map(len, lines))
    for rows in range(min(most, -(-total // columns)), most + 1):
        placed, column, line = [], 0, 0
        for track, each in zip(tracks, lines, strict=True):
            if line + len(each) > rows and line:
                column, line = column + 1, 0
            if column >= columns or line + len(each) > rows:
                break
            placed.append((column, line, track, each))
            line += len(each)
        if len(placed) == len(tracks) or rows == most:
            return _Flow(size=size, columns=columns, placed=tuple(placed), count=len(placed))
    return _Flow(size=size, columns=columns, placed=(), count=0)


def _lines_of(track: InlayTrack, lines: Sequence[str], x: float, base: float, width: float, size: float) -> list[Mark]:
    number, leading = _number_mm(size), size * _LEADING * MM_A_POINT
    marks: list[Mark] = [
        Text(x + number - 1.4, base, str(track.number), size, anchor="end", colour=SECOND),
        Text(x + width, base, track.time, size, anchor="end", colour=SECOND),
    ]
    return marks + [Text(x + number, base + leading * at, line, size) for at, line in enumerate(lines)]


_BOOKLET_PT = 7.0
"""The smallest type of the booklet's pages: there is always another page (our own limit)."""


def _booklet(piece: Piece, contents: InlayContents) -> Iterator[tuple[list[Mark], "Listed"]]:
    """Every title, on as many pages as they need: on one page in the largest type that has room, else all of them in the
    smallest, in as many columns as take the fewest pages."""
    left, width = 8.0, piece.width_mm - 16.0
    top, bottom = 9.0, piece.height_mm - 8.0
    head, below = _head(left, top, width, contents, (14.0, 12.0, 10.0, 9.0))
    heights = [bottom - 6.5 - below - 2.2, bottom - 6.5 - top]
    flow = _chosen(contents.tracks, width, heights[0], _BOOKLET_PT)
    pages = [flow]
    if flow.count < len(contents.tracks):
        ways = [_paged(contents.tracks, width, heights, columns) for columns in (1, 2)]
        pages = min(ways, key=len)
    for number, each in enumerate(pages):
        y = top if number else below + 2.2
        marks = [] if number else [*head, Line(left, below, left + width, below, 0.35)]
        marks += _foot(left, bottom, width, contents) + _set(each, left, y, width)
        yield marks, (each.size, each.columns, 0)


def _paged(tracks: Sequence[InlayTrack], width: float, heights: Sequence[float], columns: int) -> list[_Flow]:
    """The tracks on page after page, the first of its own height."""
    pages: list[_Flow] = []
    while tracks:
        height = heights[min(len(pages), len(heights) - 1)]
        pages.append(_flowing(tracks, width, height, _BOOKLET_PT, columns))
        # A title longer than a page is none that a disc holds; the others stand all the same.
        tracks = tracks[max(1, pages[-1].count) :]
    return pages


def _foot(x: float, y: float, width: float, contents: InlayContents, left_over: int = 0) -> list[Mark]:
    """The total, where the tracks are that had no room, and the code where there is one."""
    count = "1 track" if len(contents.tracks) == 1 else f"{len(contents.tracks)} tracks"
    last = len(contents.tracks)
    if left_over:
        first = last - left_over + 1
        count += f" ({last} in the booklet)" if first == last else f" ({first} to {last} in the booklet)"
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
    for number in range(0, int(end / contents.step_sectors) + 1, contents.steps_apart):
        at = x + number * contents.step_sectors * scale
        marks.append(Line(at, y + 4.6, at, y + 6.0, 0.2))
        marks.append(Text(at + 0.6, y + 7.4, str(number), 5.0, colour=SECOND))
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
    rows, listed = _listed(contents.tracks, left, y, list_width, bottom - 6.5 - y)
    return marks + rows + _foot(left, bottom, width, contents, listed[2]), listed


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
    rows, listed = _listed(contents.tracks, left, _MARGIN_MM + 2.0, width, bottom - 6.5 - _MARGIN_MM - 2.0)
    return marks + rows + _foot(left, bottom, width, contents, listed[2]), listed


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
    size = _in_lines(contents.title, room, (16.0, 14.0, 12.0, 10.0, 8.0, 6.0), "bold")
    lines = wrapped(contents.title, room, size, "bold")
    for number, line in enumerate(reversed(lines)):
        at = middle - 24.0 - number * size * MM_A_POINT * 1.15
        marks.append(Text(middle, at, line, size, "bold", "middle"))
    if contents.performer:
        marks.append(Text(middle, middle + 24.0, _cut(contents.performer, room, 10.0), 10.0, anchor="middle"))
    count = "1 track" if len(contents.tracks) == 1 else f"{len(contents.tracks)} tracks"
    marks.append(Text(middle, middle + 31.0, f"{count}, {contents.total}", 8.0, anchor="middle", colour=SECOND))
    if variant == "ruler":
        marks += _time_ruler(middle - 32.0, middle + 36.0, 64.0, contents)
    return marks, None
