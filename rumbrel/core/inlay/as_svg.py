"""A drawing as SVG at its true size, with the fonts in it: it looks the same wherever it is opened."""

import base64
from functools import cache
from xml.sax.saxutils import escape, quoteattr

from .drawing import SECOND, Box, Drawing, Line, Ring, Text
from .fonts import FONTS, MM_A_POINT, runs

__all__ = ["svg_of"]


@cache
def _face(family: str, weight: str) -> str:
    """A font as data."""
    data = base64.b64encode(FONTS[family, weight].read_bytes()).decode("ascii")
    source = f"url(data:font/ttf;base64,{data}) format('truetype')"
    return f"@font-face{{font-family:'{family}';font-weight:{_NUMBERS[weight]};src:{source}}}"


_NUMBERS = {"regular": 400, "bold": 700}


def _faces(drawing: Drawing) -> str:
    """The fonts that its words need."""
    texts = [mark for mark in drawing.marks if isinstance(mark, Text)]
    needed = {(family, text.weight) for text in texts for family, _ in runs(text.text, text.weight)}
    return "".join(_face(family, weight) for family, weight in sorted(needed))


def svg_of(drawing: Drawing, *, title: str) -> str:
    """One mm is one unit. The folds are dashed."""
    piece = drawing.piece
    wide, high = f"{piece.width_mm:g}", f"{piece.height_mm:g}"
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide}mm" height="{high}mm" viewBox="0 0 {wide} {high}" '
        f'role="img" aria-label={quoteattr(title)}><title>{escape(title)}</title><style>{_faces(drawing)}'
        "text{font-family:'first','second',sans-serif}</style>",
    ]
    if piece.round:
        parts.append(
            f'<circle cx="{piece.width_mm / 2:g}" cy="{piece.height_mm / 2:g}" r="{piece.width_mm / 2:g}" fill="#fff"/>'
        )
    else:
        parts.append(f'<rect width="{wide}" height="{high}" fill="#fff"/>')
    parts += [_put(mark) for mark in drawing.marks]
    parts += [
        f'<line x1="{fold:g}" y1="0" x2="{fold:g}" y2="{high}" stroke="{SECOND}" stroke-width="0.1" stroke-dasharray="1 1.5"/>'
        for fold in piece.folds_mm
    ]
    return "".join([*parts, "</svg>"])


def _put(mark: Text | Line | Box | Ring) -> str:
    if isinstance(mark, Text):
        turned = f' transform="rotate({mark.turned} {mark.x:.2f} {mark.y:.2f})"' if mark.turned else ""
        weight = _NUMBERS[mark.weight]
        said = "".join(part for _, part in runs(mark.text, mark.weight))
        return (
            f'<text x="{mark.x:.2f}" y="{mark.y:.2f}" font-size="{mark.size_pt * MM_A_POINT:.3f}" font-weight="{weight}" '
            f'text-anchor="{mark.anchor}" fill="{mark.colour}"{turned}>{escape(said)}</text>'
        )
    if isinstance(mark, Line):
        return (
            f'<line x1="{mark.x1:.2f}" y1="{mark.y1:.2f}" x2="{mark.x2:.2f}" y2="{mark.y2:.2f}" stroke="{mark.colour}" '
            f'stroke-width="{mark.width:g}"/>'
        )
    if isinstance(mark, Box):
        return f'<rect x="{mark.x:.2f}" y="{mark.y:.2f}" width="{mark.width:.2f}" height="{mark.height:g}" fill="{mark.colour}"/>'
    return (
        f'<circle cx="{mark.x:.2f}" cy="{mark.y:.2f}" r="{mark.radius:.2f}" fill="none" stroke="{mark.colour}" '
        f'stroke-width="{mark.width:.2f}"/>'
    )
