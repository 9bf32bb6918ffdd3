"""The columns of the table of tracks: which there are, how they are chosen, ordered and sorted by."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.http import QueryDict

from rumbrel.web.ui.templatetags.figures import bytes_text, clock, fault_words, kbps, khz

from .models import Track
from .sentence import ORDERS, Sentence

__all__ = ["COLUMNS", "USUAL_COLUMNS", "Column", "ColumnHead", "column_heads", "columns_left", "title_sorting"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Column:
    """A column of the table of tracks: its head, how its cells are set, what stands in them, and the order of the
    sentence that sorts by it. is_bar has the length drawn against the longest."""

    head: str
    css: str
    cell: Callable[[Track], str] = lambda track: ""
    order: str = ""
    is_bar: bool = False

    def css_of(self, track: Track) -> str:
        return self.css if self.css != "fault" else f"fault {'warn' if track.whole else 'fail'}"


def _text(value: str) -> str:
    return value or "–"


def _number(value: int | None) -> str:
    return str(value) if value else "–"


COLUMNS: dict[str, Column] = {
    "performer": Column(head="Performer", css="soft name", cell=lambda t: _text(t.performer), order="performer"),
    "album": Column(head="Album", css="soft name", cell=lambda t: _text(t.album), order="album"),
    "year": Column(head="Year", css="num", cell=lambda t: _number(t.year), order="year"),
    "format": Column(head="Format", css="kind", cell=lambda t: _text(t.format), order="format"),
    "khz": Column(head="kHz", css="num", cell=lambda t: khz(t.sample_rate), order="rate"),
    "bit": Column(head="bit", css="num", cell=lambda t: _number(t.bit_depth)),
    "ch": Column(head="ch", css="num", cell=lambda t: _number(t.channels)),
    "kbps": Column(head="kbit/s", css="num", cell=lambda t: kbps(t.bitrate_bps), order="bitrate"),
    "mode": Column(head="Bitrate mode", css="soft", cell=lambda t: _text(t.bitrate_mode)),
    "length": Column(head="Length", css="num", cell=lambda t: clock(t.seconds) if t.samples else "?", order="length"),
    "ruler": Column(head="Length against the longest", css="", is_bar=True),
    "mb": Column(head="Size", css="num", cell=lambda t: bytes_text(t.size_bytes), order="size"),
    "file": Column(head="File", css="soft name", cell=lambda t: t.relative, order="folder"),
    "source": Column(head="Source folder", css="soft name", cell=lambda t: t.folder.name),
    "added": Column(
        head="Added", css="num", cell=lambda t: f"{t.added_at:%Y-%m-%d}" if t.added_at else "–", order="added last"
    ),
    "fault": Column(head="Fault", css="fault", cell=lambda t: fault_words(t.fault), order="fault"),
}
"""What can stand behind the title."""
USUAL_COLUMNS = ("performer", "format", "khz", "bit", "ch", "kbps", "length", "ruler", "mb")


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnHead:
    """A column that is shown, with the queries that sort by it, move it to the left, and take it out."""

    name: str
    column: Column
    sorts: str
    sorted_as: str
    left: str
    out: str


def column_heads(names: Sequence[str], sentence: Sentence, query: QueryDict) -> tuple[ColumnHead, ...]:
    """The columns of a table; sorting by one keeps the order there was for what is equal."""
    heads = []
    for at, name in enumerate(names):
        column = COLUMNS[name]
        moved = [*names[: max(0, at - 1)], name, *names[max(0, at - 1) : at], *names[at + 1 :]]
        heads.append(
            ColumnHead(
                name=name, column=column, sorts=_sorting(column.order, sentence, query) if column.order else "",
                sorted_as=_direction(column.order, sentence), left=_with(query, columns=moved, choosing=["yes"]) if at else "",
                out=_with(query, columns=[other for other in names if other != name], choosing=["yes"]) if len(names) > 1 else "",
            )
        )  # fmt: skip
    return tuple(heads)


def columns_left(names: Sequence[str], query: QueryDict) -> tuple[tuple[str, str], ...]:
    """(head, query that adds it) of each column that is not shown."""
    return tuple(
        (COLUMNS[name].head, _with(query, columns=[*names, name], choosing=["yes"]))
        for name in COLUMNS
        if name not in names
    )


def title_sorting(sentence: Sentence, query: QueryDict) -> tuple[str, str]:
    """(query that sorts by the title, how it is sorted by it now)."""
    return _sorting("title", sentence, query), _direction("title", sentence)


def _sorting(order: str, sentence: Sentence, query: QueryDict) -> str:
    if order == sentence.order:
        return _with(query, turned=[] if sentence.turned else ["yes"])
    return _with(query, order=[order], then=[sentence.order], turned=[])


def _direction(order: str, sentence: Sentence) -> str:
    """In the words of aria-sort (WAI-ARIA 1.2); "" where the table is not sorted by it first."""
    if not order or order != sentence.order:
        return ""
    return "descending" if ORDERS[order][0].startswith("-") != sentence.turned else "ascending"


def _with(query: QueryDict, **values: Sequence[str]) -> str:
    """The query with other values, on its first page; choosing has the choice of columns stay open."""
    changed = query.copy()
    for name, value in {"choosing": (), "after": (), "before": (), **values}.items():
        changed.setlist(name, list(value))
    return f"?{changed.urlencode()}"
