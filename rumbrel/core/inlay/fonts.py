"""The fonts that are printed: what they hold, and how wide a text is in them."""

from functools import cache
from pathlib import Path

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont

__all__ = ["FONT_FILES", "lacking", "register_fonts", "shown", "width_mm"]

MM_A_POINT = 25.4 / 72
FONT_FILES = {
    "regular": Path(__file__).with_name("fonts") / "AtkinsonHyperlegibleNext-Regular.ttf",
    "bold": Path(__file__).with_name("fonts") / "AtkinsonHyperlegibleNext-Bold.ttf",
}


def font_name(weight: str) -> str:
    """What a weight is called where it is printed."""
    return f"Hyperlegible-{weight}"


@cache
def register_fonts() -> None:
    """Once a process."""
    for weight, path in FONT_FILES.items():
        pdfmetrics.registerFont(TTFont(font_name(weight), str(path)))


@cache
def _held(weight: str) -> frozenset[int]:
    register_fonts()
    return frozenset(pdfmetrics.getFont(font_name(weight)).face.charToGlyph)


def lacking(text: str, weight: str = "regular") -> str:
    """The characters that the fonts do not hold, each once."""
    return "".join(sorted({sign for sign in text if ord(sign) not in _held(weight)}))


def shown(text: str, weight: str = "regular") -> str:
    """The text as it can be printed: a mark stands for what the fonts do not hold."""
    held = _held(weight)
    return "".join(sign if ord(sign) in held else "?" for sign in text)


def width_mm(text: str, size_pt: float, weight: str = "regular") -> float:
    register_fonts()
    return float(pdfmetrics.stringWidth(shown(text, weight), font_name(weight), size_pt)) * MM_A_POINT
