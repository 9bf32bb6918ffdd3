"""What a disc says of itself: titles, names and codes, whatever of them its CD-Text can hold."""

import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.errors import DiscError

from .codes import parse_isrc, parse_product_code
from .layout import DiscLayout
from .text_codes import as_coded

__all__ = [
    "GENRES",
    "DiscText",
    "TrackText",
    "finer_text",
    "read_text",
    "text_of",
    "titled",
    "with_plain_codes",
    "with_right_codes",
]

GENRES = (
    "", "not defined", "Adult contemporary", "Alternative rock", "Children's music", "Classical", "Contemporary Christian",
    "Country", "Dance", "Easy listening", "Erotic", "Folk", "Gospel", "Hip hop", "Jazz", "Latin", "Musical", "New age",
    "Opera", "Operetta", "Pop", "Rap", "Reggae", "Rock", "Rhythm and blues", "Sound effects", "Soundtrack", "Spoken word",
    "World music",
)  # fmt: skip
"""The standard's table of genres by their numbers (CD-Text, packs of kind 0x87; as libcdio reads them)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackText:
    """What is said of a track, or of the disc as a whole."""

    title: str = ""
    performer: str = ""
    songwriter: str = ""
    composer: str = ""
    arranger: str = ""
    message: str = ""
    isrc: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscText:
    """genre_code is a number of the standard's table, 0 for none stated."""

    disc: TrackText
    tracks: tuple[TrackText, ...]
    genre_code: int = 0
    genre: str = ""
    disc_id: str = ""
    product_code: str = ""


_TRACK_NAMES = ("title", "performer", "songwriter", "composer", "arranger", "message", "isrc")


def text_of(layout: DiscLayout, *, title: str, performer: str = "") -> DiscText:
    """The CD-Text that the tracks' own tags give."""
    tracks = tuple(TrackText(**{n: getattr(t.programme, n) for n in _TRACK_NAMES}) for t in layout.tracks)
    performers = {track.performer for track in tracks}
    common = performer or (performers.pop() if len(performers) == 1 else "Various" if len(performers) > 1 else "")
    return DiscText(disc=TrackText(title=title, performer=common), tracks=tracks)


_DISC_KEYS = ("title", "performer", "songwriter", "composer", "arranger", "message")
_LARGEST_FILE_BYTES = 1024 * 1024


def read_text(path: Path, base: DiscText) -> DiscText:
    """The texts of a TOML file over those of the tags: keys of the disc, and a [[tracks]] table each.

    Raises DiscError naming the key that is wrong.
    """
    try:
        if path.stat().st_size > _LARGEST_FILE_BYTES:
            raise DiscError(f"{path.name} is too large to be a CD-Text.")
        values = tomllib.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise DiscError(f"{path} cannot be read: {error.strerror}.") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise DiscError(f"{path.name} is not valid TOML: {error}.") from error
    rows = values.pop("tracks", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise DiscError(f"{path.name}: 'tracks' must be [[tracks]] tables.")
    if len(rows) > len(base.tracks):
        raise DiscError(f"{path.name} has texts for {len(rows)} tracks, the disc has {len(base.tracks)}.")
    genre_code = values.pop("genre_code", base.genre_code)
    if not isinstance(genre_code, int) or isinstance(genre_code, bool) or not 0 <= genre_code <= 28:
        raise DiscError(f"{path.name}: 'genre_code' is {genre_code!r}. It must be a number from 0 to 28.")
    more = {key: _string(values.pop(key), key, path) for key in ("genre", "disc_id", "product_code") if key in values}
    disc = _merged(base.disc, values, _DISC_KEYS, path)
    padded = [*rows, *({} for _ in range(len(base.tracks) - len(rows)))]
    tracks = tuple(_merged(t, row, (*_DISC_KEYS, "isrc"), path) for t, row in zip(base.tracks, padded, strict=True))
    return replace(base, disc=disc, tracks=tracks, genre_code=genre_code, **more)


def _string(value: object, key: str, path: Path) -> str:
    if not isinstance(value, str):
        raise DiscError(f"{path.name}: '{key}' is {value!r}. It must be a text.")
    return value


def _merged(text: TrackText, row: dict[str, object], keys: Sequence[str], path: Path) -> TrackText:
    unknown = sorted(set(row) - set(keys))
    if unknown:
        raise DiscError(f"{path.name} has an unknown key '{unknown[0]}'. Known are {', '.join(keys)}.")
    return replace(text, **{key: _string(value, key, path) for key, value in row.items()})


def with_right_codes(text: DiscText) -> DiscText:
    """The same without the codes that are none."""
    return replace(
        text,
        product_code=_right(parse_product_code, text.product_code),
        tracks=tuple(replace(track, isrc=_right(parse_isrc, track.isrc)) for track in text.tracks),
    )


def with_plain_codes(text: DiscText) -> DiscText:
    """The same with its codes as they are written on a disc: without dashes and blanks, in capitals, thirteen digits.
    Those that are none stay as they are, for the checks to tell."""
    return replace(
        text,
        product_code=_right(parse_product_code, text.product_code) or text.product_code,
        tracks=tuple(replace(track, isrc=_right(parse_isrc, track.isrc) or track.isrc) for track in text.tracks),
    )


def finer_text(packs: DiscText, tags: DiscText) -> DiscText:
    """What packs say, in the signs of the tags where those are the same text: the code of packs lacks many."""
    return replace(
        packs, disc=_finer(packs.disc, tags.disc),
        tracks=tuple(_finer(said, tag) for said, tag in zip(packs.tracks, tags.tracks, strict=True)),
    )  # fmt: skip


def _finer(said: TrackText, tag: TrackText) -> TrackText:
    values = ((name, getattr(said, name), getattr(tag, name)) for name in _TRACK_NAMES)
    return TrackText(**{name: own if as_coded(own) == coded else coded for name, coded, own in values})


def titled(layout: DiscLayout, text: DiscText) -> DiscLayout:
    """The layout whose tracks are called as the text says, so that sheet, subcode, files and reports all say the same."""
    if len(text.tracks) != len(layout.tracks):
        return layout
    tracks = tuple(
        replace(track, programme=replace(track.programme, **{name: getattr(said, name) for name in _TRACK_NAMES}))
        for track, said in zip(layout.tracks, text.tracks, strict=True)
    )
    return replace(layout, tracks=tracks)


def _right(parse: Callable[[str], str], code: str) -> str:
    try:
        return parse(code) if code else ""
    except DiscError:
        return ""
