"""Inlays, read back by an independent reader of PDF (pypdf): size, fonts, words and where they stand."""

import io
import re
from unittest import TestCase

import pypdf
from defusedxml import ElementTree

from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.text import text_of
from rumbrel.core.errors import DiscError
from rumbrel.core.inlay import PIECES, VARIANTS, Drawing, InlayContents, draw, pdf_of, piece_for, svg_of
from tests.core.disc.test_layout import programme

_MM = 72 / 25.4


def contents(count: int, *, title: str = "Tower days & nights <1>", track: str = "Evening concert") -> InlayContents:
    programmes = [programme(f"{n}.wav", 44_100 * (40 + n), f"{track} {n}") for n in range(count)]
    layout = lay_out(programmes, gap_sectors=150, medium=medium_for("80"))
    return InlayContents.of(layout, text_of(layout, title=title))


class InlayTests(TestCase):
    def placed(self, drawing: Drawing) -> list[tuple[str, float, float]]:
        """Every text of the printed sheet with its place, in mm from the sheet's lower left corner."""
        page = pypdf.PdfReader(io.BytesIO(pdf_of(drawing, title="x"))).pages[0]
        found: list[tuple[str, float, float]] = []

        def visit(text, matrix, text_matrix, font, size):  # type: ignore[no-untyped-def]
            if text.strip():
                found.append((text.strip(), matrix[4] / _MM, matrix[5] / _MM))

        page.extract_text(visitor_text=visit)
        return found

    def test_every_piece_in_every_design_is_as_large_as_it_says_with_its_fonts_in_it(self) -> None:
        """ISO 216: A4 is 210 x 297 mm. Fonts are embedded where their descriptors hold a font file (ISO 32000-1, 9.9)."""
        said = contents(12)
        for piece in PIECES:
            for variant, _ in VARIANTS:
                drawing = draw(piece, said, variant)
                page = pypdf.PdfReader(io.BytesIO(pdf_of(drawing, title="Tower"))).pages[0]
                self.assertAlmostEqual(float(page.mediabox.width) / _MM, 297.0, places=3)
                self.assertAlmostEqual(float(page.mediabox.height) / _MM, 210.0, places=3)
                fonts = [font.get_object() for font in page["/Resources"]["/Font"].get_object().values()]
                used = [font for font in fonts if "/FontDescriptor" in font]
                self.assertTrue(used)
                for font in used:
                    self.assertIn("/FontFile2", font["/FontDescriptor"].get_object(), font["/BaseFont"])
                self.assertIn("Tower days & nights <1>", page.extract_text())
                picture = ElementTree.fromstring(svg_of(drawing, title="Tower & <1>"))
                self.assertEqual(picture.get("width"), f"{piece.width_mm:g}mm")
                left, low = (297 - piece.width_mm) / 2, (210 - piece.height_mm) / 2
                for text, x, y in self.placed(drawing):
                    if "Print at 100 %" not in text:
                        self.assertTrue(left <= x <= left + piece.width_mm, (piece.key, variant, text, x))
                        self.assertTrue(low <= y <= low + piece.height_mm, (piece.key, variant, text, y))

    def test_the_list_says_every_title_and_time_and_the_total(self) -> None:
        said = contents(12)
        words = " ".join(text for text, _, _ in self.placed(draw(piece_for("inlay"), said, "ledger")))
        for number in range(12):
            self.assertRegex(words, rf"\b{number + 1}\b.*Evening concert {number}\b.*0:{40 + number}")
        self.assertIn("12 tracks, 9:28", words)  # 12 x 40 s + 66 s + 11 gaps of 2 s

    def test_long_lists_flow_into_columns_and_smaller_type_down_to_a_limit_that_is_said(self) -> None:
        sizes = []
        for count in (8, 30, 60, 99):
            drawing = draw(piece_for("inlay"), contents(count), "ledger")
            sizes.append((drawing.size_pt, drawing.columns))
            self.assertEqual(drawing.said, [], count)
        self.assertEqual(sizes[0], (9.0, 1))
        self.assertEqual(sizes, sorted(sizes, key=lambda each: -each[0]))
        self.assertGreater(sizes[-1][1], 1)
        self.assertGreaterEqual(sizes[-1][0], 5.0)
        layout = contents(99)
        small = draw(piece_for("inlay"), layout, "groove")
        shown = sum(1 for text, _, _ in self.placed(small) if re.fullmatch(r"\d:\d\d", text))
        self.assertEqual(shown + small.left_over, 99)

    def test_what_the_font_lacks_is_said_and_a_long_title_is_cut_within_the_piece(self) -> None:
        drawing = draw(piece_for("front"), contents(2, title="Колокол " * 12), "ledger")
        self.assertRegex(drawing.said[0], "does not hold К")
        self.assertTrue(any(text.endswith("…") for text, _, _ in self.placed(drawing)))
        with self.assertRaisesRegex(DiscError, "There are: inlay, front, slim, face"):
            piece_for("moon")
