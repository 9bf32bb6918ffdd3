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
    def placed(self, *drawings: Drawing) -> list[tuple[str, float, float]]:
        """Every text of the printed sheets with its place, in mm from the sheet's lower left corner."""
        found: list[tuple[str, float, float]] = []

        def visit(text, matrix, text_matrix, font, size):  # type: ignore[no-untyped-def]
            if text.strip():
                found.append((text.strip(), matrix[4] / _MM, matrix[5] / _MM))

        for page in pypdf.PdfReader(io.BytesIO(pdf_of(drawings, title="x"))).pages:
            page.extract_text(visitor_text=visit)
        return found

    def test_every_piece_in_every_design_is_as_large_as_it_says_with_its_fonts_in_it(self) -> None:
        """ISO 216: A4 is 210 x 297 mm. Fonts are embedded where their descriptors hold a font file (ISO 32000-1, 9.9)."""
        said = contents(12, track="Вечерний звон")
        for piece in PIECES:
            for variant, _ in VARIANTS:
                drawings = draw(piece, said, variant)
                page = pypdf.PdfReader(io.BytesIO(pdf_of(drawings, title="Tower"))).pages[0]
                self.assertAlmostEqual(float(page.mediabox.width) / _MM, 297.0, places=3)
                self.assertAlmostEqual(float(page.mediabox.height) / _MM, 210.0, places=3)
                fonts = [font.get_object() for font in page["/Resources"]["/Font"].get_object().values()]
                self.assertTrue(fonts)
                for font in fonts:
                    self.assertIn("/FontFile2", font["/FontDescriptor"].get_object(), font["/BaseFont"])
                self.assertIn("Tower days & nights <1>", page.extract_text())
                picture = ElementTree.fromstring(svg_of(drawings[0], title="Tower & <1>"))
                self.assertEqual(picture.get("width"), f"{piece.width_mm:g}mm")
                left, low = (297 - piece.width_mm) / 2, (210 - piece.height_mm) / 2
                for text, x, y in self.placed(*drawings):
                    if "Print at 100 %" not in text:
                        self.assertTrue(left <= x <= left + piece.width_mm, (piece.key, variant, text, x))
                        self.assertTrue(low <= y <= low + piece.height_mm, (piece.key, variant, text, y))

    def test_the_list_says_every_title_and_time_and_the_total(self) -> None:
        said = contents(12)
        words = " ".join(text for text, _, _ in self.placed(*draw(piece_for("inlay"), said, "ledger")))
        for number in range(12):
            self.assertRegex(words, rf"\b{number + 1}\b.*0:{40 + number}.*Evening concert {number}\b")
        self.assertIn("12 tracks, 9:28", words)  # 12 x 40 s + 66 s + 11 gaps of 2 s

    def test_long_lists_flow_into_columns_and_smaller_type_down_to_a_limit_that_is_said(self) -> None:
        sizes = []
        for count in (8, 30, 60, 99):
            (drawing,) = draw(piece_for("inlay"), contents(count), "ledger")
            sizes.append((drawing.size_pt, drawing.columns))
            self.assertEqual(drawing.said, [], count)
        self.assertEqual(sizes[0], (9.0, 1))
        self.assertEqual(sizes, sorted(sizes, key=lambda each: -each[0]))
        self.assertGreater(sizes[-1][1], 1)
        self.assertGreaterEqual(sizes[-1][0], 5.0)
        (small,) = draw(piece_for("inlay"), contents(99), "groove")
        shown = sum(1 for text, _, _ in self.placed(small) if re.fullmatch(r"\d:\d\d", text))
        self.assertEqual(shown + small.left_over, 99)

    def test_no_title_is_cut_and_every_one_of_99_long_ones_is_on_the_booklet(self) -> None:
        long = "A miniature for two pianos and a rather surprised trumpet, number"
        said = contents(99, track=long)
        (inlay,) = draw(piece_for("inlay"), said, "ledger")
        self.assertGreater(inlay.left_over, 0)
        self.assertIn("on the booklet pages alone", inlay.said[0])
        pages = draw(piece_for("booklet"), said, "ledger")
        self.assertEqual([page.page for page in pages], list(range(1, len(pages) + 1)))
        words = " ".join(text for text, _, _ in self.placed(*pages))
        flat = re.sub(r"\s+", " ", words)
        self.assertNotIn("…", flat)
        for number in range(99):
            self.assertIn(f"{long} {number}".split("two ")[1].split(" ")[0], flat)
            self.assertEqual(len(re.findall(rf"(?<!\d){number}(?!\d)", flat)) > 0, True)
        times = [text for page in pages for text, _, _ in self.placed(page) if re.fullmatch(r"\d:\d\d", text)]
        self.assertEqual(len(times), 99)
        for page in pages:
            for text, _x, y in self.placed(page):
                if "Print at 100 %" not in text:
                    self.assertTrue((210 - 120) / 2 <= y <= (210 + 120) / 2, text)
        (single,) = draw(piece_for("booklet"), contents(3), "ledger")
        self.assertEqual((single.pages, single.left_over), (1, 0))

    def test_other_scripts_are_printed_and_what_no_font_holds_is_said(self) -> None:
        (drawing,) = draw(piece_for("front"), contents(2, title="Колокол Ώρα ԵՐԵՎ ქარი " * 3), "ledger")
        self.assertEqual(drawing.said, [])
        words = "".join(text for text, _, _ in self.placed(drawing))
        for part in ("Колокол", "Ώρα", "ქარი"):
            self.assertIn(part, words)
        (drawing,) = draw(piece_for("front"), contents(2, title="鐘 Колокол"), "ledger")
        self.assertEqual(drawing.said, ["The fonts do not hold 鐘; a question mark is printed instead."])
        self.assertIn("second", svg_of(drawing, title="x").split("</style>")[0])
        self.assertNotIn("'second';font", svg_of(draw(piece_for("front"), contents(2), "ledger")[0], title="x"))
        with self.assertRaisesRegex(DiscError, "There are: inlay, front, booklet, slim, face"):
            piece_for("moon")
