"""The fonts that are printed: what they hold, and how wide a text is in them.

Most of a text is in the interface's own font. What that does not hold (Cyrillic, Greek, Armenian, Georgian, further Latin
letters, signs) is in a second one.
"""

from functools import cache
from itertools import groupby
from pathlib import Path

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont

__all__ = ["FONTS", "MM_A_POINT", "font_name", "lacking", "register_fonts", "runs", "width_mm", "wrapped"]

MM_A_POINT = 25.4 / 72
_FOLDER = Path(__file__).with_name("fonts")
FONTS = {
    ("first", "regular"): _FOLDER / "AtkinsonHyperlegibleNext-Regular.ttf",
    ("first", "bold"): _FOLDER / "AtkinsonHyperlegibleNext-Bold.ttf",
    ("second", "regular"): _FOLDER / "DejaVuSans-Regular.ttf",
    ("second", "bold"): _FOLDER / "DejaVuSans-Bold.ttf",
}
"""By family and weight. The second is a subset of DejaVu Sans 2.37; its licence lies beside it."""


def font_name(family: str, weight: str) -> str:
    """What a font is called where it is printed."""
    return f"Inlay-{family}-{weight}"


@cache
def register_fonts() -> None:
    """Once a process."""
    for (family, weight), path in FONTS.items():
        pdfmetrics.registerFont(TTFont(font_name(family, weight), str(path)))


@cache
def _held(family: str, weight: str) -> frozenset[int]:
    register_fonts()
    return frozenset(pdfmetrics.getFont(font_name(family, weight)).face.charToGlyph)


def _family_of(sign: str, weight: str) -> str:
    """Whose sign it is; "" where no font holds it."""
    return next((family for family in ("first", "second") if ord(sign) in _held(family, weight)), "")


def lacking(text: str, weight: str = "regular") -> str:
    """The characters that the fonts do not hold, each once."""
    return "".join(sorted({sign for sign in text if not _family_of(sign, weight)}))


def runs(text: str, weight: str = "regular") -> list[tuple[str, str]]:
    """(family, what is printed in it) of a text from left to right: a question mark stands for what no font holds."""
    signs = [(family or "first", sign if family else "?") for sign in text for family in (_family_of(sign, weight),)]
    return [(family, "".join(sign for _, sign in each)) for family, each in groupby(signs, key=lambda pair: pair[0])]


def width_mm(text: str, size_pt: float, weight: str = "regular") -> float:
    register_fonts()
    widths = (pdfmetrics.stringWidth(part, font_name(family, weight), size_pt) for family, part in runs(text, weight))
    return float(sum(widths)) * MM_A_POINT


def wrapped(text: str, room_mm: float, size_pt: float, weight: str = "regular") -> list[str]:
    """The text in lines that have room; a word that is longer than a line is broken."""
    lines: list[str] = []
    line = ""
    for word in text.split():
        longer = f"{line} {word}" if line else word
        if width_mm(longer, size_pt, weight) <= room_mm:
            line = longer
            continue
        lines += [line] if line else []
        while width_mm(word, size_pt, weight) > room_mm and len(word) > 1:
            kept = next(
                (end for end in range(len(word) - 1, 1, -1) if width_mm(word[:end], size_pt, weight) <= room_mm), 1
            )
            lines.append(word[:kept])
            word = word[kept:]
        line = word
    return [*lines, line] if line or not lines else lines
