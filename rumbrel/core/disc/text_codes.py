"""The two codes of CD-Text: ISO 8859-1, which every player with CD-Text knows, and MS-JIS, for Japanese.

What the first lacks is written with the nearest characters; what has none is lost, unless a spelling is chosen for it.
"""

import unicodedata
from collections.abc import Mapping

from anyascii import anyascii

__all__ = ["as_coded", "latin", "lost_in", "ms_jis", "transliterated"]

_NEAREST = {"–": "-", "—": "-", "‘": "'", "’": "'", "“": '"', "”": '"', "„": '"', "…": "...", "€": "EUR", "œ": "oe",
            "Œ": "OE", "ł": "l", "Ł": "L", "ı": "i", "•": "·", "′": "'", "″": '"'}  # fmt: skip


def latin(text: str) -> tuple[bytes, set[str]]:
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
    return latin(text)[0].decode("latin-1")


LOST = "?"
"""What stands for a character that the code lacks and that nothing is near to."""


def lost_in(text: str) -> str:
    """The characters of a text that its code loses altogether, each once."""
    return "".join(dict.fromkeys(sign for sign in text if sign != LOST and LOST in as_coded(sign)))


def transliterated(text: str) -> str:
    """A text in Latin letters where its code would lose it, as a proposal: readings differ by language and by name."""
    if not lost_in(text):
        return text
    return " ".join("".join(anyascii(sign) if lost_in(sign) else sign for sign in text).split())


_WIDE = {code: code + 0xFEE0 for code in range(0x21, 0x7F)} | {0x20: 0x3000}
"""Full-width forms: in a block of double-byte characters each takes two bytes."""


def ms_jis(text: str) -> bytes | None:
    """A text in MS-JIS, two bytes a character, as a block of double-byte characters wants it (the MMC standard's
    description of CD-Text, from memory; libcdio reads it so). None where it lacks a character."""
    wide = unicodedata.normalize("NFKC", text).translate(_WIDE)
    try:
        coded = [sign.encode("cp932") for sign in wide]
    except UnicodeEncodeError:
        return None
    return b"".join(coded) if all(len(each) == 2 for each in coded) else None


def from_ms_jis(raw: bytes) -> str:
    """The text of such bytes, with plain forms for full-width Latin letters."""
    plain: Mapping[int, int] = {wide: code for code, wide in _WIDE.items()}
    return raw.decode("cp932", "replace").translate(plain)
