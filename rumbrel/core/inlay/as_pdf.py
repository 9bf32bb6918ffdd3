"""A drawing as PDF, at its true size with marks to cut and to fold by, its fonts embedded."""

import io
from collections.abc import Sequence

from reportlab.lib.colors import HexColor
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.pdfgen.canvas import Canvas

from .drawing import SECOND, Box, Drawing, Line, Ring, Text
from .fonts import font_name, register_fonts, runs, width_mm

__all__ = ["SHEET_MM", "pdf_of"]

SHEET_MM = (297.0, 210.0)
"""A4, lying (ISO 216)."""
_CUT_MM = 5.0


def pdf_of(drawings: Sequence[Drawing], *, title: str) -> bytes:
    """A sheet of A4 for each, with the piece in its middle."""
    register_fonts()
    out = io.BytesIO()
    # Its own first font would be named in the file without being in it.
    canvas = Canvas(
        out, pagesize=(SHEET_MM[0] * mm, SHEET_MM[1] * mm), invariant=1, initialFontName=font_name("first", "regular")
    )
    canvas.setTitle(title)
    canvas.setCreator("Rumbrel")
    for drawing in drawings:
        _sheet(canvas, drawing)
    canvas.save()
    return out.getvalue()


def _sheet(canvas: Canvas, drawing: Drawing) -> None:
    piece = drawing.piece
    left, top = (SHEET_MM[0] - piece.width_mm) / 2, (SHEET_MM[1] + piece.height_mm) / 2
    _cut_marks(canvas, left, top, drawing)
    for mark in drawing.marks:
        _put(canvas, left, top, mark)
    page = f", page {drawing.page} of {drawing.pages}" if drawing.pages > 1 else ""
    note = f"{piece.label}{page}, {piece.width_mm:g} x {piece.height_mm:g} mm. Print at 100 %, not fitted to the page."
    canvas.setFillColor(HexColor(SECOND))
    _words(canvas, 12 * mm, 8 * mm, note, 7, "regular")
    canvas.showPage()


def _words(canvas: Canvas, x: float, y: float, text: str, size_pt: float, weight: str) -> None:
    """From a base line's beginning, in points, each part in the font that holds it."""
    for family, part in runs(text, weight):
        name = font_name(family, weight)
        canvas.setFont(name, size_pt)
        canvas.drawString(x, y, part)
        x += stringWidth(part, name, size_pt)


def _cut_marks(canvas: Canvas, left: float, top: float, drawing: Drawing) -> None:
    piece = drawing.piece
    right, bottom = left + piece.width_mm, top - piece.height_mm
    canvas.setLineWidth(0.15 * mm)
    canvas.setStrokeColor(HexColor(SECOND))
    if piece.round:
        canvas.circle((left + right) / 2 * mm, (top + bottom) / 2 * mm, piece.width_mm / 2 * mm)
        return
    for x in (left, right):
        canvas.line(x * mm, (top + 1) * mm, x * mm, (top + 1 + _CUT_MM) * mm)
        canvas.line(x * mm, (bottom - 1) * mm, x * mm, (bottom - 1 - _CUT_MM) * mm)
    for y in (top, bottom):
        canvas.line((left - 1) * mm, y * mm, (left - 1 - _CUT_MM) * mm, y * mm)
        canvas.line((right + 1) * mm, y * mm, (right + 1 + _CUT_MM) * mm, y * mm)
    canvas.setDash(1.2, 1.6)
    for fold in piece.folds_mm:
        canvas.line((left + fold) * mm, (top + 1) * mm, (left + fold) * mm, (top + 1 + _CUT_MM) * mm)
        canvas.line((left + fold) * mm, (bottom - 1) * mm, (left + fold) * mm, (bottom - 1 - _CUT_MM) * mm)
    canvas.setDash()


def _put(canvas: Canvas, left: float, top: float, mark: Text | Line | Box | Ring) -> None:
    """From mm below the upper left corner to points above the lower left one."""
    if isinstance(mark, Text):
        canvas.saveState()
        canvas.translate((left + mark.x) * mm, (top - mark.y) * mm)
        canvas.rotate(-mark.turned)
        canvas.setFillColor(HexColor(mark.colour))
        back = {"start": 0.0, "middle": 0.5, "end": 1.0}[mark.anchor]
        wide = width_mm(mark.text, mark.size_pt, mark.weight) * mm if back else 0.0
        _words(canvas, -wide * back, 0, mark.text, mark.size_pt, mark.weight)
        canvas.restoreState()
    elif isinstance(mark, Line):
        canvas.setLineWidth(mark.width * mm)
        canvas.setStrokeColor(HexColor(mark.colour))
        canvas.line((left + mark.x1) * mm, (top - mark.y1) * mm, (left + mark.x2) * mm, (top - mark.y2) * mm)
    elif isinstance(mark, Box):
        canvas.setFillColor(HexColor(mark.colour))
        canvas.rect(
            (left + mark.x) * mm, (top - mark.y - mark.height) * mm, mark.width * mm, mark.height * mm, stroke=0, fill=1
        )
    else:
        canvas.setLineWidth(mark.width * mm)
        canvas.setStrokeColor(HexColor(mark.colour))
        canvas.circle((left + mark.x) * mm, (top - mark.y) * mm, mark.radius * mm)
