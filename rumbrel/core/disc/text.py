"""CD-Text: packs of 18 bytes in the lead-in (CD-Text; IEC 61866 and common practice, from memory)."""

import binascii
import tomllib
import unicodedata
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.errors import DiscError

from .codes import parse_isrc, parse_product_code
from .layout import DiscLayout

__all__ = [
    "MOST_PACKS",
    "DiscText",
    "TextTooLong",
    "TextUse",
    "TrackText",
    "as_coded",
    "decode_packs",
    "encode_packs",
    "finer_text",
    "read_text",
    "text_of",
    "text_use",
    "titled",
    "with_plain_codes",
    "with_right_codes",
    "TEXT_RULES",
    "packs_by_rule",
    "rules_that_fit",
    "thinned",
]

PACK_BYTES = 18
MOST_PACKS = 256
_TEXT_BYTES = 12
_KINDS = {"title": 0x80, "performer": 0x81, "songwriter": 0x82, "composer": 0x83, "arranger": 0x84, "message": 0x85}
_DISC_ID, _GENRE, _CODES, _SIZES = 0x86, 0x87, 0x8E, 0x8F
_ENGLISH = 0x09
_ISO_8859_1 = 0x00


class TextTooLong(DiscError):
    """The packs of a CD-Text pass what a block holds."""


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


_NEAREST = {"–": "-", "—": "-", "‘": "'", "’": "'", "“": '"', "”": '"', "„": '"', "…": "...", "€": "EUR", "œ": "oe",
            "Œ": "OE", "ł": "l", "Ł": "L", "ı": "i", "•": "·", "′": "'", "″": '"'}  # fmt: skip


def _latin(text: str) -> tuple[bytes, set[str]]:
    """ISO 8859-1, with the nearest characters for what it lacks, and the characters it lacks."""
    out, lacking = [], set()
    for sign in unicodedata.normalize("NFC", text):
        if sign in "\t\0" or ord(sign) < 32:
            sign = " "
        try:
            out.append(sign.encode("latin-1"))
            continue
        except UnicodeEncodeError:
            lacking.add(sign)
        plain = _NEAREST.get(sign) or "".join(
            part for part in unicodedata.normalize("NFKD", sign) if not unicodedata.combining(part)
        )
        out.append(plain.encode("latin-1", "replace"))
    return b"".join(out), lacking


def as_coded(text: str) -> str:
    """A text as a player shows it: with the nearest characters for those that the code lacks."""
    return _latin(text)[0].decode("latin-1")


@dataclass(frozen=True, slots=True, kw_only=True)
class TextUse:
    """packs of the 256 that a CD-Text takes, of these each kind of text, and (character, what it becomes) of those
    that the code cannot hold."""

    packs: int
    by_kind: tuple[tuple[str, int], ...]
    replaced: tuple[tuple[str, str], ...]

    @property
    def longest_kind(self) -> str:
        """The kind that takes most."""
        return max(self.by_kind, key=lambda part: part[1])[0] if self.by_kind else ""


_KIND_NAMES = {kind: f"{name}s" for name, kind in _KINDS.items()} | {
    _DISC_ID: "disc id", _GENRE: "genre", _CODES: "codes", _SIZES: "sizes",
}  # fmt: skip


def text_use(text: DiscText) -> TextUse:
    """What a CD-Text takes, also one that is too long. Wrong codes count as none."""
    packs, counts, lacking = _packs_of(with_right_codes(text))
    return TextUse(
        packs=len(packs),
        by_kind=tuple((_KIND_NAMES[kind], count) for kind, count in counts.items()),
        replaced=tuple((sign, as_coded(sign)) for sign in sorted(lacking)),
    )


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


TEXT_RULES: dict[str, str] = {
    "all": "every text",
    "performer-once": "performers once, for the whole disc",
    "titles-performers": "titles and performers alone",
    "titles": "titles alone",
    "short": "titles and performers, shortened until they fit",
    "none": "no CD-Text",
}
"""What of a disc's texts goes into its CD-Text."""


def thinned(text: DiscText, rule: str) -> DiscText:
    """What a rule leaves of a disc's texts for its CD-Text; the sheet and printed pieces keep all of them."""
    performers = {track.performer for track in text.tracks}
    if rule == "performer-once" and len(performers) == 1:
        alone = tuple(replace(track, performer="") for track in text.tracks)
        return replace(text, disc=replace(text.disc, performer=performers.pop() or text.disc.performer), tracks=alone)
    if rule in ("titles", "titles-performers"):
        return _with_names(text, performers=rule == "titles-performers", most=_NO_LIMIT)
    if rule == "short":
        return _shortened(text)
    return text


_NO_LIMIT = 10_000


def _with_names(text: DiscText, *, performers: bool, most: int) -> DiscText:
    """Titles, and performers where they are wanted, of at most so many characters; codes stay."""

    def named(one: TrackText) -> TrackText:
        performer = _cut(one.performer, most) if performers else ""
        return TrackText(title=_cut(one.title, most), performer=performer, isrc=one.isrc)

    return replace(
        text, disc=named(text.disc), tracks=tuple(named(track) for track in text.tracks), disc_id="", genre=""
    )


def _cut(text: str, most: int) -> str:
    """At the end of a word where one ends near, without a sign that something is missing: there is no room for one."""
    if len(text) <= most:
        return text
    head = text[:most]
    at_word = head.rpartition(" ")[0]
    return (at_word if len(at_word) >= most * 2 // 3 else head).rstrip(" ,;:-(")


def _shortened(text: DiscText) -> DiscText:
    """Titles and performers as long as all of them fit."""
    low, high = (
        1,
        max([len(part.title) for part in (text.disc, *text.tracks)] + [len(t.performer) for t in text.tracks]),
    )
    while low < high:
        middle = (low + high + 1) // 2
        packs, _, _ = _packs_of(with_right_codes(_with_names(text, performers=True, most=middle)))
        low, high = (middle, high) if len(packs) <= MOST_PACKS else (low, middle - 1)
    return _with_names(text, performers=True, most=low)


def packs_by_rule(text: DiscText, rule: str) -> bytes | None:
    """The packs of a disc by a rule: None for "all", which whoever writes codes, b"" for none. Raises TextTooLong."""
    if rule == "all":
        return None
    return b"" if rule == "none" else encode_packs(with_right_codes(thinned(text, rule)))[0]


def rules_that_fit(text: DiscText) -> tuple[tuple[str, int], ...]:
    """The rules by which a CD-Text fits, the one that loses least first, with the packs that each takes."""
    found: list[tuple[str, int]] = []
    for rule in TEXT_RULES:
        try:
            packs = packs_by_rule(text, rule)
            taken = len(encode_packs(with_right_codes(text))[0] if packs is None else packs) // PACK_BYTES
        except TextTooLong:
            continue
        if taken not in {packs for _, packs in found}:
            found.append((rule, taken))
    return tuple(found)


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


def encode_packs(text: DiscText) -> tuple[bytes, str]:
    """(packs of block 0, characters that were replaced). Raises TextTooLong naming what to shorten, and
    DiscError for a wrong code."""
    packs, _, lacking = _packs_of(text)
    if len(packs) > MOST_PACKS:
        raise TextTooLong(_too_long(text, len(packs)))
    return b"".join(pack + _checksum(pack) for pack in packs), "".join(sorted(lacking))


def _packs_of(text: DiscText) -> tuple[list[bytes], dict[int, int], set[str]]:
    """(packs without their checksums, how many of each kind, characters that the code lacks)."""
    lacking: set[str] = set()
    packs: list[bytes] = []
    counts: dict[int, int] = {}

    def add(kind: int, chunks: list[tuple[int, int, bytes]]) -> None:
        for track, position, chunk in chunks:
            head = bytes([kind, min(255, track), len(packs) & 0xFF, min(15, position)])
            packs.append(head + chunk)
        counts[kind] = len(chunks)

    for name, kind in _KINDS.items():
        strings = [getattr(text.disc, name), *(getattr(track, name) for track in text.tracks)]
        if any(strings):
            coded = [_latin(string) for string in strings]
            lacking |= set().union(*(found for _, found in coded))
            add(kind, list(_chunks([raw for raw, _ in coded])))
    if text.disc_id:
        raw, found = _latin(text.disc_id)
        lacking |= found
        add(_DISC_ID, list(_single(raw + b"\0")))
    if text.genre_code or text.genre:
        raw, found = _latin(text.genre)
        lacking |= found
        add(_GENRE, list(_single(text.genre_code.to_bytes(2, "big") + raw + b"\0")))
    codes = [parse_product_code(text.product_code) if text.product_code else ""]
    codes += [parse_isrc(track.isrc) if track.isrc else "" for track in text.tracks]
    if any(codes):
        add(_CODES, list(_chunks([code.encode("ascii") for code in codes], tabs=False)))
    _add_sizes(packs, counts, len(text.tracks))
    return packs, {**counts, _SIZES: 3}, lacking


def _checksum(pack: bytes) -> bytes:
    """CRC-16 with polynomial 0x1021, start 0, inverted."""
    return (binascii.crc_hqx(pack, 0) ^ 0xFFFF).to_bytes(2, "big")


def _chunks(strings: Sequence[bytes], *, tabs: bool = True) -> Iterator[tuple[int, int, bytes]]:
    """(track of the first sign, its position in that track's text, 12 bytes) of texts that run on.

    A text equal to the one before is written as a tab; the disc's own text is track 0.
    """
    stream: list[tuple[int, int, int]] = []
    for track, string in enumerate(strings):
        repeats = tabs and track > 1 and string and string == strings[track - 1]
        body = (b"\t" if repeats else string) + b"\0"
        stream += [(track, position, byte) for position, byte in enumerate(body)]
    for start in range(0, len(stream), _TEXT_BYTES):
        part = stream[start : start + _TEXT_BYTES]
        yield part[0][0], part[0][1], bytes(byte for _, _, byte in part).ljust(_TEXT_BYTES, b"\0")


def _single(raw: bytes) -> Iterator[tuple[int, int, bytes]]:
    """A binary field of the disc; its position counts like a text's."""
    for start in range(0, len(raw), _TEXT_BYTES):
        yield 0, start, raw[start : start + _TEXT_BYTES].ljust(_TEXT_BYTES, b"\0")


def _add_sizes(packs: list[bytes], counts: dict[int, int], tracks: int) -> None:
    """Three packs: character code, first and last track, flags, counts by kind, last numbers, languages."""
    counts = {**counts, _SIZES: 3}
    by_kind = bytes(min(255, counts.get(kind, 0)) for kind in range(0x80, 0x90))
    last = bytes([min(255, len(packs) + 2)]) + bytes(7)
    body = bytes([_ISO_8859_1, 1, min(255, tracks), 0]) + by_kind + last + bytes([_ENGLISH]) + bytes(7)
    for number in range(3):
        packs.append(bytes([_SIZES, number, len(packs) & 0xFF, 0]) + body[number * 12 : number * 12 + 12])


def _too_long(text: DiscText, packs: int) -> str:
    totals = {name: sum(len(getattr(part, name)) + 1 for part in (text.disc, *text.tracks)) for name in _KINDS}
    largest = max(totals, key=lambda name: totals[name])
    over = (packs - MOST_PACKS) * _TEXT_BYTES
    return (
        f"The CD-Text takes {packs} packs, at most {MOST_PACKS} fit. Shorten the {largest}s by {over} characters "
        "in total, or exclude a kind of text."
    )


def decode_packs(raw: bytes) -> DiscText:
    """Texts of block 0. Raises DiscError when a pack is damaged or the text is no whole of packs."""
    if len(raw) % PACK_BYTES:
        raise DiscError("The CD-Text does not end at a whole pack.")
    bodies: dict[int, bytes] = {}
    starts: dict[int, int] = {}
    for at in range(0, len(raw), PACK_BYTES):
        pack = raw[at : at + PACK_BYTES]
        if _checksum(pack[:16]) != pack[16:]:
            raise DiscError(f"Pack {at // PACK_BYTES} of the CD-Text is damaged.")
        if pack[3] >> 4 & 7 == 0:
            bodies[pack[0]] = bodies.get(pack[0], b"") + pack[4:16]
            starts.setdefault(pack[0], pack[1])
    sizes = bodies.get(_SIZES, b"")
    count = sizes[2] if len(sizes) > 2 else 0
    fields = {name: _texts(bodies.get(kind, b""), count) for name, kind in _KINDS.items()}
    codes = _texts(bodies.get(_CODES, b""), count)
    genre = bodies.get(_GENRE, b"")
    return DiscText(
        disc=TrackText(**{name: texts[0] for name, texts in fields.items()}),
        tracks=tuple(
            TrackText(**{name: texts[n] for name, texts in fields.items()}, isrc=codes[n]) for n in range(1, count + 1)
        ),
        genre_code=int.from_bytes(genre[:2], "big"),
        genre=genre[2:].split(b"\0")[0].decode("latin-1"),
        disc_id=bodies.get(_DISC_ID, b"").split(b"\0")[0].decode("latin-1"),
        product_code=codes[0],
    )


def _texts(body: bytes, count: int) -> list[str]:
    texts = [part.decode("latin-1") for part in body.split(b"\0")][: count + 1]
    texts += [""] * (count + 1 - len(texts))
    for number in range(2, count + 1):
        if texts[number] == "\t":
            texts[number] = texts[number - 1]
    return texts
