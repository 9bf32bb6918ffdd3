"""What is printed for a disc, in mm. The sizes are those that printers of cases and labels use (common practice)."""

from dataclasses import dataclass

from rumbrel.core.errors import DiscError

__all__ = ["PIECES", "SPINE_MM", "VARIANTS", "Piece", "piece_for"]

SPINE_MM = 6.5
"""The edge that is folded up at either side of a case's inlay."""
FACE_MM, HOLE_MM = 118.0, 23.0
"""The printable ring of a disc: outer and inner diameter."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """width and height are the size it is cut to, folds the places from the left at which it is folded."""

    key: str
    label: str
    width_mm: float
    height_mm: float
    folds_mm: tuple[float, ...] = ()
    round: bool = False


PIECES: tuple[Piece, ...] = (
    Piece(key="inlay", label="inlay for the back of a jewel case", width_mm=151.0, height_mm=118.0,
          folds_mm=(SPINE_MM, 151.0 - SPINE_MM)),
    Piece(key="front", label="booklet front of a jewel case", width_mm=120.0, height_mm=120.0),
    Piece(key="booklet", label="booklet pages with every title", width_mm=120.0, height_mm=120.0),
    Piece(key="slim", label="card for a slim case, folded once", width_mm=240.0, height_mm=120.0, folds_mm=(120.0,)),
    Piece(key="face", label="disc face", width_mm=FACE_MM, height_mm=FACE_MM, round=True),
)  # fmt: skip

VARIANTS: tuple[tuple[str, str], ...] = (
    ("ledger", "ruled lines"),
    ("ruler", "with its time ruler"),
    ("groove", "with its groove"),
)
"""Our designs: what beside the words is drawn."""


def piece_for(key: str) -> Piece:
    """The piece of a key. Raises DiscError naming those there are."""
    for piece in PIECES:
        if piece.key == key:
            return piece
    raise DiscError(f"There is no piece '{key}'. There are: {', '.join(piece.key for piece in PIECES)}.")
