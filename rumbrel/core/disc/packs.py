"""CD-Text as packs of 18 bytes in the lead-in (IEC 60908's annex and the MMC standard, from memory; read by libcdio).

Block 0 is in ISO 8859-1. Block 1, where there is one, holds the same texts in MS-JIS, with two bytes a character.
"""

import binascii
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from rumbrel.core.errors import DiscError

from .codes import parse_isrc, parse_product_code
from .text import DiscText, TrackText, with_right_codes
from .text_codes import as_coded, from_ms_jis, latin, ms_jis

__all__ = [
    "MOST_PACKS",
    "PACK_BYTES",
    "TextTooLong",
    "TextUse",
    "decode_packs",
    "encode_packs",
    "fullest_text",
    "japanese_of",
    "text_use",
]

PACK_BYTES = 18
MOST_PACKS = 256
_TEXT_BYTES = 12
_KINDS = {"title": 0x80, "performer": 0x81, "songwriter": 0x82, "composer": 0x83, "arranger": 0x84, "message": 0x85}
_DISC_ID, _GENRE, _CODES, _SIZES = 0x86, 0x87, 0x8E, 0x8F
_ENGLISH, _JAPANESE = 0x09, 0x69
_ISO_8859_1, _MS_JIS = 0x00, 0x80
_DOUBLE_BYTE = 0x80
"""In the fourth byte of a pack: its characters have two bytes."""


class TextTooLong(DiscError):
    """The packs of a CD-Text pass what a block holds."""


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
    """What block 0 of a CD-Text takes, also one that is too long. Wrong codes count as none."""
    block = _latin_block(with_right_codes(text))
    counts = {**block.counts, _SIZES: 3}
    return TextUse(
        packs=len(block.packs) + 3,
        by_kind=tuple((_KIND_NAMES[kind], count) for kind, count in counts.items()),
        replaced=tuple((sign, as_coded(sign)) for sign in sorted(block.lacking)),
    )


def japanese_of(text: DiscText) -> DiscText | None:
    """The texts that a block in MS-JIS would hold; None where that lacks a character of one, or where ISO 8859-1 holds
    all of them already."""
    parts = [getattr(each, name) for name in _KINDS for each in (text.disc, *text.tracks)]
    if not any(latin(part)[1] for part in parts) or any(ms_jis(part) is None for part in parts):
        return None
    return text


def encode_packs(text: DiscText, japanese: DiscText | None = None) -> tuple[bytes, str]:
    """(packs, characters that block 0 replaces). With japanese, block 1 holds its texts in MS-JIS. Raises TextTooLong
    naming what to shorten, and DiscError for a wrong code or a text that MS-JIS lacks characters of."""
    blocks = [_latin_block(text)]
    if japanese is not None:
        blocks.append(_japanese_block(japanese))
    packs = []
    for number, block in enumerate(blocks):
        if len(block.packs) + 3 > MOST_PACKS:
            raise TextTooLong(_too_long(text, len(block.packs) + 3))
        packs += block.packs + _sizes(blocks, number, len(text.tracks))
    return b"".join(pack + _checksum(pack) for pack in packs), "".join(sorted(blocks[0].lacking))


@dataclass(slots=True)
class _Block:
    """packs have no checksums yet; counts are of each kind, lacking the characters that the code lacks. width is how many
    bytes a character has."""

    number: int
    code: int
    language: int
    width: int = 1
    packs: list[bytes] = field(default_factory=list)
    counts: dict[int, int] = field(default_factory=dict)
    lacking: set[str] = field(default_factory=set)

    def add(self, kind: int, chunks: Sequence[tuple[int, int, bytes]]) -> None:
        flags = (_DOUBLE_BYTE if self.width == 2 else 0) | self.number << 4
        for track, position, chunk in chunks:
            head = bytes([kind, min(255, track), len(self.packs) & 0xFF, flags | min(15, position)])
            self.packs.append(head + chunk)
        self.counts[kind] = len(chunks)


def _latin_block(text: DiscText) -> _Block:
    block = _Block(number=0, code=_ISO_8859_1, language=_ENGLISH)
    for name, kind in _KINDS.items():
        strings = [getattr(text.disc, name), *(getattr(track, name) for track in text.tracks)]
        if any(strings):
            coded = [latin(string) for string in strings]
            block.lacking |= set().union(*(found for _, found in coded))
            block.add(kind, list(_chunks([raw for raw, _ in coded])))
    if text.disc_id:
        raw, found = latin(text.disc_id)
        block.lacking |= found
        block.add(_DISC_ID, list(_single(raw + b"\0")))
    if text.genre_code or text.genre:
        raw, found = latin(text.genre)
        block.lacking |= found
        block.add(_GENRE, list(_single(text.genre_code.to_bytes(2, "big") + raw + b"\0")))
    codes = [parse_product_code(text.product_code) if text.product_code else ""]
    codes += [parse_isrc(track.isrc) if track.isrc else "" for track in text.tracks]
    if any(codes):
        block.add(_CODES, list(_chunks([code.encode("ascii") for code in codes], tabs=False)))
    return block


def _japanese_block(text: DiscText) -> _Block:
    block = _Block(number=1, code=_MS_JIS, language=_JAPANESE, width=2)
    for name, kind in _KINDS.items():
        strings = [getattr(text.disc, name), *(getattr(track, name) for track in text.tracks)]
        if not any(strings):
            continue
        coded = [ms_jis(string) for string in strings]
        if None in coded:
            raise DiscError(
                f"MS-JIS lacks a character of “{strings[coded.index(None)]}”. Leave the Japanese texts out."
            )
        block.add(kind, list(_chunks([raw for raw in coded if raw is not None], width=2)))
    return block


def _checksum(pack: bytes) -> bytes:
    """CRC-16 with polynomial 0x1021, start 0, inverted."""
    return (binascii.crc_hqx(pack, 0) ^ 0xFFFF).to_bytes(2, "big")


def _chunks(strings: Sequence[bytes], *, tabs: bool = True, width: int = 1) -> Iterator[tuple[int, int, bytes]]:
    """(track of the first sign, its position in that track's text, 12 bytes) of texts that run on.

    A text equal to the one before is written as a tab; the disc's own text is track 0.
    """
    stream: list[tuple[int, int, int]] = []
    for track, string in enumerate(strings):
        repeats = tabs and track > 1 and string and string == strings[track - 1]
        body = (b"\t" * width if repeats else string) + b"\0" * width
        stream += [(track, at // width, byte) for at, byte in enumerate(body)]
    for start in range(0, len(stream), _TEXT_BYTES):
        part = stream[start : start + _TEXT_BYTES]
        yield part[0][0], part[0][1], bytes(byte for _, _, byte in part).ljust(_TEXT_BYTES, b"\0")


def _single(raw: bytes) -> Iterator[tuple[int, int, bytes]]:
    """A binary field of the disc; its position counts like a text's."""
    for start in range(0, len(raw), _TEXT_BYTES):
        yield 0, start, raw[start : start + _TEXT_BYTES].ljust(_TEXT_BYTES, b"\0")


def _sizes(blocks: Sequence[_Block], number: int, tracks: int) -> list[bytes]:
    """Three packs of a block: character code, first and last track, flags, counts by kind, and of all blocks the last
    numbers and the languages."""
    block = blocks[number]
    counts = {**block.counts, _SIZES: 3}
    by_kind = bytes(min(255, counts.get(kind, 0)) for kind in range(0x80, 0x90))
    last = bytes(min(255, len(each.packs) + 2) for each in blocks).ljust(8, b"\0")
    languages = bytes(each.language for each in blocks).ljust(8, b"\0")
    body = bytes([block.code, 1, min(255, tracks), 0]) + by_kind + last + languages
    flags = (_DOUBLE_BYTE if block.width == 2 else 0) | number << 4
    return [
        bytes([_SIZES, part, len(block.packs) + part & 0xFF, flags]) + body[part * 12 : part * 12 + 12]
        for part in range(3)
    ]


def _too_long(text: DiscText, packs: int) -> str:
    totals = {name: sum(len(getattr(part, name)) + 1 for part in (text.disc, *text.tracks)) for name in _KINDS}
    largest = max(totals, key=lambda name: totals[name])
    over = (packs - MOST_PACKS) * _TEXT_BYTES
    return (
        f"The CD-Text takes {packs} packs, at most {MOST_PACKS} fit. Shorten the {largest}s by {over} characters "
        "in total, or exclude a kind of text."
    )


def decode_packs(raw: bytes) -> DiscText:
    """Texts of block 0. Raises DiscError when a pack is damaged or missing, or the text is no whole of packs."""
    return _decoded(_bodies(raw).get(0, {}))


def fullest_text(raw: bytes) -> DiscText:
    """Texts of block 0, with those of a Japanese block in place of their own where there is one. Raises DiscError as
    decode_packs does."""
    blocks = _bodies(raw)
    plain = _decoded(blocks.get(0, {}))
    for number, bodies in sorted(blocks.items()):
        if number and bodies.get(_SIZES, b"")[:1] == bytes([_MS_JIS]):
            said = _decoded(bodies)
            if len(said.tracks) == len(plain.tracks) and any(track.title for track in said.tracks):
                return replace(
                    plain, disc=_over(plain.disc, said.disc),
                    tracks=tuple(_over(one, other) for one, other in zip(plain.tracks, said.tracks, strict=True)),
                )  # fmt: skip
    return plain


def _over(plain: TrackText, said: TrackText) -> TrackText:
    return replace(plain, **{name: getattr(said, name) or getattr(plain, name) for name in _KINDS})


def _bodies(raw: bytes) -> dict[int, dict[int, bytes]]:
    """What the packs of each block hold, by kind."""
    if len(raw) % PACK_BYTES:
        raise DiscError("The CD-Text does not end at a whole pack.")
    blocks: dict[int, dict[int, bytes]] = {}
    counts: dict[int, int] = {}
    for at in range(0, len(raw), PACK_BYTES):
        pack = raw[at : at + PACK_BYTES]
        if _checksum(pack[:16]) != pack[16:]:
            raise DiscError(f"Pack {at // PACK_BYTES} of the CD-Text is damaged.")
        block = pack[3] >> 4 & 7
        if pack[2] != counts.get(block, 0) & 0xFF:
            raise DiscError(f"The CD-Text lacks a pack, or has one out of its order, at pack {at // PACK_BYTES}.")
        counts[block] = counts.get(block, 0) + 1
        bodies = blocks.setdefault(block, {})
        bodies[pack[0]] = bodies.get(pack[0], b"") + pack[4:16]
    return blocks


def _decoded(bodies: dict[int, bytes]) -> DiscText:
    sizes = bodies.get(_SIZES, b"")
    count = sizes[2] if len(sizes) > 2 else 0
    wide = sizes[:1] == bytes([_MS_JIS])
    fields = {name: _texts(bodies.get(kind, b""), count, wide) for name, kind in _KINDS.items()}
    codes = _texts(bodies.get(_CODES, b""), count, False)
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


def _texts(body: bytes, count: int, wide: bool) -> list[str]:
    texts = (_wide_texts(body) if wide else [part.decode("latin-1") for part in body.split(b"\0")])[: count + 1]
    texts += [""] * (count + 1 - len(texts))
    for number in range(2, count + 1):
        if texts[number] in ("\t", "\t\t"):
            texts[number] = texts[number - 1]
    return texts


def _wide_texts(body: bytes) -> list[str]:
    """Texts of two bytes a character, each ended by two zeros."""
    signs = [body[at : at + 2] for at in range(0, len(body) - 1, 2)]
    texts, text = [], b""
    for sign in signs:
        if sign == b"\0\0":
            texts.append(from_ms_jis(text))
            text = b""
        else:
            text += sign
    return texts
