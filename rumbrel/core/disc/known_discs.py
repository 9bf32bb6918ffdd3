"""Names of discs by their contents table: a small catalogue that ships with Rumbrel, and files like it."""

import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from rumbrel.core.errors import DiscError

from .packs import fullest_text
from .reading import Contents, contents_digest
from .text import DiscText, TrackText, finer_text

__all__ = ["KnownDisc", "names_for", "names_offered", "read_known_discs"]

_SHIPPED = Path(__file__).parent / "known_discs.toml"
_LARGEST_FILE_BYTES = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownDisc:
    """A disc's names under the digest of its contents table."""

    digest: str
    text: DiscText


def read_known_discs(path: Path) -> tuple[KnownDisc, ...]:
    """[[discs]] tables with digest, title, performer and tracks. Raises DiscError naming what is wrong."""
    try:
        if path.stat().st_size > _LARGEST_FILE_BYTES:
            raise DiscError(f"{path.name} is too large to be a catalogue of discs.")
        rows = tomllib.loads(path.read_text(encoding="utf-8")).get("discs", [])
    except OSError as error:
        raise DiscError(f"{path} cannot be read: {error.strerror}.") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise DiscError(f"{path.name} is not valid TOML: {error}.") from error
    try:
        return tuple(_disc(row) for row in rows)
    except (KeyError, TypeError, AttributeError) as error:
        raise DiscError(f"{path.name} has a disc without its {error}.") from error


def _disc(row: dict[str, object]) -> KnownDisc:
    performer = str(row.get("performer", ""))
    titles = row["tracks"]
    if not isinstance(titles, list):
        raise TypeError("list of tracks")
    tracks = tuple(TrackText(title=str(title), performer=performer) for title in titles)
    text = DiscText(disc=TrackText(title=str(row["title"]), performer=performer), tracks=tracks)
    return KnownDisc(digest=str(row["digest"]), text=text)


@cache
def _shipped() -> tuple[KnownDisc, ...]:
    return read_known_discs(_SHIPPED)


def names_for(contents: Contents, more: Sequence[KnownDisc] = ()) -> DiscText | None:
    """The names of a disc: from a catalogue that was named for it, else its own text, else the catalogue that comes
    with the application, else None."""
    named = [disc.text for disc in _entries(contents, more)]
    return next(iter([*named, *(text for _, text in names_offered(contents))]), None)


def _entries(contents: Contents, catalogue: Sequence[KnownDisc]) -> list[KnownDisc]:
    digest = contents_digest(contents)
    return [disc for disc in catalogue if disc.digest == digest and len(disc.text.tracks) == len(contents.tracks)]


def names_offered(contents: Contents) -> list[tuple[str, DiscText]]:
    """Everything that knows names for a disc, with what it is: its own text first, then the catalogue's entry."""
    found: list[tuple[str, DiscText]] = []
    if contents.text:
        try:
            text = fullest_text(contents.text)
        except DiscError:
            # A damaged text is no text; the catalogue may know the disc.
            text = None
        if text and len(text.tracks) == len(contents.tracks) and any(track.title for track in text.tracks):
            said = contents.said
            # The code of packs lacks many characters: the same names are better read from the sheet.
            finer = said is not None and len(said.tracks) == len(text.tracks)
            found.append(("CD-Text", finer_text(text, said) if finer and said is not None else text))
    if contents.said is not None and len(contents.said.tracks) == len(contents.tracks):
        found.append(("its cue sheet", contents.said))
    return [*found, *(("catalogue", disc.text) for disc in _entries(contents, _shipped()))]
