"""CD-Text and codes, packed and read back."""

import unicodedata
from dataclasses import replace
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.disc.codes import check_digit, parse_isrc, parse_product_code
from rumbrel.core.disc.packs import TextTooLong, decode_packs, encode_packs, fullest_text
from rumbrel.core.disc.text import DiscText, TrackText, read_text
from rumbrel.core.disc.text_codes import lost_in, transliterated
from rumbrel.core.disc.text_rules import TEXT_RULES, TextChoice, packs_by_choice, rules_that_fit, thinned
from rumbrel.core.errors import DiscError
from tests.core.disc.case import DiscCase
from tests.marks import slow

TEXTS = st.text(st.characters(codec="latin-1", min_codepoint=32, exclude_characters="\x7f\t"), max_size=40).map(
    lambda text: "".join(sign for sign in text if not 0x7F <= ord(sign) < 0xA0)
)


class TextTests(DiscCase):
    @slow
    @given(st.lists(st.tuples(TEXTS, TEXTS, st.sampled_from(["", "XAOSW2400001"])), min_size=1, max_size=20), TEXTS)
    @settings(max_examples=80, deadline=None)
    def test_texts_come_back_through_their_packs(self, rows: list[tuple[str, str, str]], title: str) -> None:
        tracks = tuple(TrackText(title=a, performer=b, isrc=c) for a, b, c in rows)
        text = DiscText(disc=TrackText(title=title), tracks=tracks, product_code="2904173000523", genre_code=3)
        try:
            packs, replaced = encode_packs(text)
        except TextTooLong:
            return
        self.assertEqual(decode_packs(packs), text)
        self.assertEqual((replaced, len(packs) % 18), ("", 0))

    def test_repeats_are_a_tab_and_strange_signs_the_nearest(self) -> None:
        tracks = tuple(TrackText(title=f"T{n}", performer="Łukasz “Ř”") for n in range(3))
        packs, replaced = encode_packs(DiscText(disc=TrackText(title="D"), tracks=tracks))
        self.assertEqual(set(replaced), set("Ł“”Ř"))
        self.assertEqual([track.performer for track in decode_packs(packs).tracks], ['Lukasz "R"'] * 3)
        performers = b"".join(packs[at + 4 : at + 16] for at in range(0, len(packs), 18) if packs[at] == 0x81)
        self.assertEqual(performers.rstrip(b"\0").split(b"\0"), [b"", b'Lukasz "R"', b"\t", b"\t"])

    def test_what_is_lost_is_told_and_spelled_otherwise(self) -> None:
        """Cyrillic and Japanese have no near characters; a transliteration is a proposal, and what is typed stands."""
        titles = ("Колокола", "Größe “eins”", "鐘 1")
        text = DiscText(disc=TrackText(title="Days"), tracks=tuple(TrackText(title=title) for title in titles))
        packs, _ = encode_packs(text)
        self.assertEqual([t.title for t in decode_packs(packs).tracks], ["????????", 'Größe "eins"', "? 1"])
        self.assertEqual((lost_in("Колокола"), lost_in("Größe “?”"), lost_in("鐘 1")), ("Колка", "", "鐘"))
        self.assertEqual((transliterated("Колокола"), transliterated("Größe “eins”")), ("Kolokola", "Größe “eins”"))
        choice = TextChoice(spellings={"Колокола": "Kolokola", "鐘 1": "Kane 1"})
        coded = decode_packs(packs_by_choice(text, choice) or b"")
        self.assertEqual([t.title for t in coded.tracks], ["Kolokola", 'Größe "eins"', "Kane 1"])

    @given(st.lists(st.text("鐘塔の日ベルABC 12かな、", max_size=12), min_size=1, max_size=30))
    @settings(max_examples=60, deadline=None)
    def test_a_japanese_block_comes_back_and_is_there_only_where_it_holds_all(self, titles: list[str]) -> None:
        text = DiscText(disc=TrackText(title="塔"), tracks=tuple(TrackText(title=title) for title in titles))
        packs = packs_by_choice(text, TextChoice(japanese=True)) or b""
        plain = [unicodedata.normalize("NFKC", title) for title in titles]
        said = [track.title for track in fullest_text(packs).tracks]
        # An empty title in both blocks is what block 0 has.
        self.assertEqual([unicodedata.normalize("NFKC", each) for each in said], plain)
        blocks = [packs[at + 3] >> 4 & 7 for at in range(0, len(packs), 18)]
        self.assertEqual((set(blocks), sorted(blocks)), ({0, 1}, blocks))
        korean = replace(text, disc=TrackText(title="종"))
        self.assertIsNone(packs_by_choice(korean, TextChoice(japanese=True)))
        latin = DiscText(disc=TrackText(title="Tower"), tracks=())
        self.assertIsNone(packs_by_choice(latin, TextChoice(japanese=True)))

    def test_packs_out_of_their_order_are_no_text(self) -> None:
        tracks = tuple(TrackText(title=f"Peal {n}") for n in range(9))
        packs, _ = encode_packs(DiscText(disc=TrackText(title="D"), tracks=tracks))
        for wrong in (packs[:18] + packs[36:], packs[18:36] + packs[:18] + packs[36:], packs[:18] + packs):
            with self.assertRaisesRegex(DiscError, "out of its order"):
                decode_packs(wrong)

    def test_too_much_text_says_what_to_shorten(self) -> None:
        tracks = tuple(TrackText(title=f"{n} " + "long title " * 5) for n in range(99))
        with self.assertRaisesRegex(TextTooLong, "titles by"):
            encode_packs(DiscText(disc=TrackText(), tracks=tracks))

    def test_a_damaged_pack_is_found(self) -> None:
        packs, _ = encode_packs(DiscText(disc=TrackText(title="D"), tracks=(TrackText(title="T"),)))
        with self.assertRaisesRegex(DiscError, "damaged"):
            decode_packs(b"\x80" + packs[1:6] + b"\xff" + packs[7:])

    def test_texts_from_a_file(self) -> None:
        base = DiscText(disc=TrackText(title="A"), tracks=(TrackText(title="1"), TrackText(title="2")))
        path = self.folder / "t.toml"
        path.write_text('title = "B"\ngenre_code = 5\n[[tracks]]\nmessage = "m"\n')
        text = read_text(path, base)
        self.assertEqual((text.disc.title, text.genre_code, text.tracks[0].message), ("B", 5, "m"))
        for wrong, word in (
            ("titel = 'x'", "titel"),
            ("genre_code = 99", "28"),
            ("[[tracks]]\n" * 3, "3 tracks"),
            ("=", "TOML"),
        ):
            path.write_text(wrong)
            with self.assertRaisesRegex(DiscError, word):
                read_text(path, base)

    def test_codes(self) -> None:
        """The worked example of the GS1 General Specifications, 6291041500213 (from memory)."""
        self.assertEqual(check_digit("629104150021"), 3)
        self.assertEqual(parse_product_code("2 904173 000523"), "2904173000523")
        self.assertEqual(parse_isrc("xa-osw-24-00001"), "XAOSW2400001")
        for wrong in ("2904173000524", "12", "XAOSW240001", "XA-O!W-24-00001", "２９０４１７３０００５２３"):
            with self.assertRaises(DiscError):
                parse_product_code(wrong)
            with self.assertRaises(DiscError):
                parse_isrc(wrong)


class RuleTests(TestCase):
    def test_what_a_rule_leaves_fits_and_the_least_loss_comes_first(self) -> None:
        """99 tracks of ordinary titles by one performer take more than the 256 packs of a block."""
        words = ("bells", "at", "dusk", "over", "the", "quiet", "water", "of", "Ostreth", "harbour")
        tracks = tuple(
            TrackText(
                title=" ".join(words[(n + k * 3) % 10] for k in range(5)), performer=f"The Ringers {n % 3}",
                composer="A. Venning", isrc="",
            )
            for n in range(99)
        )  # fmt: skip
        text = DiscText(disc=TrackText(title="All of them"), tracks=tracks)
        with self.assertRaises(TextTooLong):
            encode_packs(text)
        offered = dict(rules_that_fit(text, TextChoice()))
        self.assertEqual(list(offered), [rule for rule in TEXT_RULES if rule in offered], "in the order of the table")
        self.assertEqual({"titles", "short", "none"} - offered.keys(), set())
        for rule, packs in offered.items():
            coded = packs_by_choice(text, TextChoice(rule=rule))
            assert coded is not None
            self.assertEqual((len(coded) // 18, len(coded) // 18 <= 256), (packs, True), rule)
        self.assertEqual(
            decode_packs(packs_by_choice(text, TextChoice(rule="titles")) or b"").tracks[7],
            TrackText(title=tracks[7].title),
        )
        short = decode_packs(packs_by_choice(text, TextChoice(rule="short")) or b"")
        for whole, cut in zip(tracks, short.tracks, strict=True):
            self.assertTrue(whole.title.startswith(cut.title) and cut.title, cut)
            self.assertTrue(whole.performer.startswith(cut.performer))
        # One more character would not fit.
        longest = max(len(cut.title) for cut in short.tracks)
        self.assertGreater(longest, 8)

    def test_one_performer_stands_once(self) -> None:
        tracks = tuple(TrackText(title=f"Peal {n}", performer="The Ringers") for n in range(3))
        text = DiscText(disc=TrackText(title="Tower"), tracks=tracks)
        once = thinned(text, "performer-once")
        self.assertEqual((once.disc.performer, {track.performer for track in once.tracks}), ("The Ringers", {""}))
        mixed = replace(text, tracks=(replace(tracks[0], performer="Another"), *tracks[1:]))
        self.assertEqual(thinned(mixed, "performer-once"), mixed)
        self.assertEqual(
            (packs_by_choice(text, TextChoice(rule="all")), packs_by_choice(text, TextChoice(rule="none"))), (None, b"")
        )
