"""Inlays and labels for a disc's case and face, to the millimetre: one drawing, printed as PDF or shown as SVG."""

from .as_pdf import pdf_of
from .as_svg import svg_of
from .contents import InlayContents, InlayTrack
from .drawing import Drawing, draw
from .pieces import PIECES, VARIANTS, Piece, piece_for

__all__ = [
    "PIECES",
    "VARIANTS",
    "Drawing",
    "InlayContents",
    "InlayTrack",
    "Piece",
    "draw",
    "pdf_of",
    "piece_for",
    "svg_of",
]
