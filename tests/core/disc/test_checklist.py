"""Each line of the checklist by its case: passed, doubtful or failed, at its very bound."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

from rumbrel.core.disc.checklist import checklist, first_failure
from rumbrel.core.disc.layout import DiscLayout, Programme, lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.text import DiscText, TrackText, text_of
from rumbrel.core.verdict import Verdict
from tests.core.disc.test_layout import programme

PASSED, DOUBTFUL, FAILED = Verdict.PASSED, Verdict.DOUBTFUL, Verdict.FAILED


class ChecklistTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name, "a.wav")
        self.path.touch()

    def track(self, sectors: int = 300, **values: object) -> Programme:
        return replace(programme(str(self.path), sectors * 588), **values)  # type: ignore[arg-type]

    def laid(self, *tracks: Programme, gap: int = 150, medium: str = "74", **more: object) -> DiscLayout:
        return lay_out(tracks, gap_sectors=gap, medium=medium_for(medium), **more)  # type: ignore[arg-type]

    def line(self, code: str, layout: DiscLayout, text: DiscText | None = None) -> tuple[Verdict, str] | None:
        found = [finding for finding in checklist(layout, text) if finding.code == code]
        self.assertLessEqual(len(found), 1)
        return (found[0].verdict, found[0].text) if found else None

    def test_a_plain_disc_passes_every_line(self) -> None:
        layout = self.laid(self.track(), self.track())
        self.assertEqual({finding.verdict for finding in checklist(layout)}, {PASSED})
        self.assertIsNone(first_failure(layout))

    def test_count(self) -> None:
        for count, verdict, text in (
            (0, FAILED, "there are no tracks yet"), (1, PASSED, "1 track (99 allowed)"),
            (99, PASSED, "99 tracks (99 allowed)"),
            (100, FAILED, "100 tracks (99 allowed); split them over two discs"),
        ):  # fmt: skip
            self.assertEqual(self.line("count", self.laid(*[self.track()] * count, gap=0)), (verdict, text))

    def test_shortest(self) -> None:
        self.assertEqual(
            self.line("shortest", self.laid(self.track(301), self.track(300))),
            (PASSED, "every track lasts 4 s or more, the shortest 0:04:00"),
        )
        verdict, text = self.line("shortest", self.laid(self.track(), self.track(299)))
        self.assertEqual((verdict, text.split(";")[0]), (FAILED, "track 2 lasts 0:03:74"))

    def test_total_and_where_it_runs_over(self) -> None:
        capacity = medium_for("74").capacity_sectors
        fits = self.laid(self.track(capacity - 450), self.track(300))
        self.assertEqual(self.line("total", fits), (PASSED, "0:00:00 free on the 74 minute blank"))
        over = self.laid(self.track(capacity - 449), self.track(300))
        self.assertEqual(
            self.line("total", over),
            (FAILED, "runs over by 0:00:01 in track 2 at 0:03:74; leave out a track or shorten the gaps"),
        )
        self.assertEqual(first_failure(over).code, "total")  # type: ignore[union-attr]

    def test_gaps(self) -> None:
        for gap, verdict in ((0, PASSED), (375, PASSED), (376, DOUBTFUL)):
            self.assertEqual(self.line("gaps", self.laid(self.track(), self.track(), gap=gap))[0], verdict, gap)
        first = self.laid(self.track(), self.track(gap_sectors=400), self.track(gap_sectors=400))
        self.assertEqual(
            self.line("gaps", first), (DOUBTFUL, "tracks 2 and 3 come after more than 5 s; is that meant?")
        )
        runs = self.laid(self.track(), self.track(runs_on=True))
        self.assertEqual(self.line("gaps", runs), (PASSED, "gaps of 0 to 5 s, 1 join runs on"))

    def test_first_pause_and_sound_before_the_first_track(self) -> None:
        self.assertEqual(self.line("first-pause", self.laid(self.track())), (PASSED, "first pause of 2 s"))
        longer = self.laid(self.track(), first_pause_sectors=225)
        self.assertEqual(self.line("first-pause", longer), (PASSED, "first pause of 3 s"))
        self.assertEqual(self.line("first-pause", self.laid(self.track(), hidden=self.track()))[0], DOUBTFUL)

    def test_medium(self) -> None:
        self.assertEqual(
            self.line("medium", self.laid(self.track())),
            (PASSED, "74 minute blank: a length that drives commonly take"),
        )
        self.assertEqual(self.line("medium", self.laid(self.track(), medium="90"))[0], DOUBTFUL)

    def test_isrc(self) -> None:
        self.assertEqual(self.line("codes", self.laid(self.track())), (PASSED, "no codes are asked for"))
        good = self.laid(self.track(isrc="XAABC2400001"), self.track(isrc="XAABC2400002"))
        self.assertEqual(self.line("codes", good), (PASSED, "2 ISRC"))
        wrong = self.laid(self.track(), self.track(isrc="XA1"))
        self.assertEqual(
            self.line("codes", wrong), (FAILED, "the ISRC of track 2 is not an ISRC; correct it or leave it out")
        )
        twice = self.laid(self.track(isrc="XAABC2400001"), self.track(isrc="XAABC2400001"))
        self.assertEqual(self.line("codes", twice), (DOUBTFUL, "tracks 1 and 2 have the same ISRC"))

    def test_clipping_is_judged_only_where_it_was_measured(self) -> None:
        self.assertIsNone(self.line("clipping", self.laid(self.track(), self.track())))
        self.assertEqual(self.line("clipping", self.laid(self.track(state=""), self.track()))[0], PASSED)
        found = self.line("clipped-source", self.laid(self.track(state=""), self.track(state="clipped")))
        self.assertEqual(found, (DOUBTFUL, "track 2 is clipped in the file already; no level mends that"))
        # What the level does to it is another matter, and the one that a level mends.
        over = self.laid(
            self.track(state=""), self.track(state="clipped", over_db=1.26), self.track(state="", over_db=0.3)
        )
        text = "the level takes the peaks of tracks 2 and 3 up to 1.3 dB beyond full scale, where they are limited"
        self.assertEqual(self.line("clipping", over), (DOUBTFUL, f"{text}; lower the level"))
        self.assertIsNone(self.line("clipped-source", over))

    def test_lossy_sources(self) -> None:
        self.assertEqual(self.line("lossy", self.laid(self.track()))[0], PASSED)
        one, two = self.track(lossless=False), self.track()
        self.assertEqual(self.line("lossy", self.laid(one, two)), (DOUBTFUL, "1 track comes from a lossy file"))
        self.assertEqual(self.line("lossy", self.laid(one, one, two)), (DOUBTFUL, "2 tracks come from lossy files"))

    def test_channels(self) -> None:
        self.assertEqual(self.line("channels", self.laid(self.track()))[0], PASSED)
        mono = self.laid(self.track(channels=1), self.track(state="mono"), self.track(state="clipped"))
        self.assertEqual(self.line("channels", mono), (DOUBTFUL, "tracks 1 and 2 are mono (both channels equal)"))
        silent = self.laid(self.track(state="silent"), self.track(state="mono"))
        self.assertEqual(self.line("channels", silent), (DOUBTFUL, "a channel of track 1 is silent; is that meant?"))

    def test_sources_that_are_not_there(self) -> None:
        gone = self.laid(self.track(), self.track(path="/gone.wav"), self.track(path="/gone2.wav"))
        self.assertEqual(
            self.line("sources", gone),
            (FAILED, "the file of tracks 2 and 3 is not there; connect its disk or leave it out"),
        )

        for count, words in ((6, "tracks 1, 2, 3, 4, 5 and 6"), (7, "tracks 1, 2, 3, 4, 5, 6 and more")):
            said = self.line("sources", self.laid(*[self.track(path="/gone.wav")] * count))
            self.assertTrue(said and said[1].startswith(f"the file of {words} is not there"), said)

    def test_text_and_product_code(self) -> None:
        layout = self.laid(self.track(title="Peal"))
        text = text_of(layout, title="Disc")
        verdict, said = self.line("text", layout, text)
        self.assertEqual(verdict, PASSED)
        self.assertRegex(said, r"^CD-Text takes \d+ of 256 packs$")
        odd = replace(text, tracks=(TrackText(title="Snow \u2013 \u201cquay\u201d"),))
        self.assertEqual(self.line("text", layout, odd)[0], DOUBTFUL)
        long = replace(text, tracks=(TrackText(title="x" * 4_000),))
        self.assertEqual(self.line("text", layout, long)[0], FAILED)
        for code, wanted in (
            ("", (PASSED, "no UPC/EAN is asked for")), ("2904173000523", (PASSED, "UPC/EAN 2904173000523")),
        ):  # fmt: skip
            self.assertEqual(self.line("product-code", layout, replace(text, product_code=code)), wanted)
        self.assertEqual(self.line("product-code", layout, replace(text, product_code="2904173000524"))[0], FAILED)

    def test_a_wrong_code_fails_its_own_line_alone(self) -> None:
        layout = self.laid(self.track(isrc="XA1", title="Peal"))
        text = replace(text_of(layout, title="Disc"), product_code="12")
        failed = {finding.code for finding in checklist(layout, text) if finding.verdict is FAILED}
        self.assertEqual(failed, {"codes", "product-code"})
