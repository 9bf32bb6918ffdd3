"""Discs taken in, in the real interface: a pile, and one with spots, whose doubtful track is heard and kept."""

import json
import re
from pathlib import Path

import soundfile
from playwright.sync_api import expect

from rumbrel.core.disc.data_disc import DataFile, write_data_disc
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.text import text_of
from rumbrel.core.inspection import inspect_file
from rumbrel.core.workflows.make_disc import programme_of
from tests.marks import slow
from tests.signals import write_sound

from .test_walk import A_WHILE_MS
from .test_ways import WayCase


@slow
class BenchTests(WayCase):
    own = "discs"

    def shelved(self, name: str, title: str, *seconds: int) -> None:
        """A disc beside the drives."""
        parts = []
        for number, length in enumerate(seconds, 1):
            path = write_sound(self.instance.data / "made" / f"{name} {number}.wav", 44_100 * length, seed=number)
            parts.append(programme_of(inspect_file(path), title=f"Barrel {number}", performer="M. Orrel"))
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"))
        write_image(layout, self.instance.data / "shelf" / "demo" / name, name, text=text_of(layout, title=title))

    def test_a_pile_of_two_begins_by_itself_and_a_doubtful_track_is_heard_and_kept(self) -> None:
        self.shelved("rolls", "Museum barrels", 6, 7, 6)
        self.shelved("spots", "Spots", 40, 40)
        data = DataFile(path=self.instance.data / "made" / "rolls 1.wav", folder="", name="one.wav")
        shelf = self.instance.data / "shelf" / "demo"
        (shelf / "data").mkdir()
        write_data_disc([data], shelf / "data", "Data", medium=medium_for("80"))
        (shelf / "discs.json").write_text(json.dumps({"spots": {"label": "Spots", "condition": "broken"}}))
        page = self.page("/bench/", viewport={"width": 1280, "height": 860})
        page.locator("#put-early").select_option("demo:rolls")
        page.locator("#put-in-early").click()
        expect(page.locator("h1")).to_have_text("Museum barrels")
        with page.expect_navigation():
            page.get_by_label("Second target").select_option("car-mp3")
        with page.expect_navigation():
            page.get_by_label("Beginning").select_option("once")
        page.locator("[name=title-2]").fill("Ferryman, renamed")
        page.locator("#take-in-act").click()
        expect(page.locator("#taken[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        expect(page.get_by_text("taken in", exact=True)).to_have_count(3)
        results = self.instance.data / "results"
        flac = sorted((results / "archive-flac" / "Museum barrels").glob("*.flac"))
        self.assertEqual([path.stem[:2] for path in flac], ["01", "02", "03"])
        self.assertIn("Ferryman, renamed", flac[1].name)
        self.assertEqual(len(list((results / "car-mp3" / "Museum barrels").glob("*.mp3"))), 3)
        (image,) = (self.instance.data / "shelf" / "demo" / "rolls").glob("*.bin")
        first, _ = soundfile.read(flac[0], dtype="int16")
        self.assertEqual(
            first.tobytes(), image.read_bytes()[: len(first.tobytes())], "sample for sample what lies on the disc"
        )
        page.goto(f"{self.instance.address}/bench/")
        page.locator("#take-out-early").click()
        page.locator("#put-early").select_option("demo:spots")
        page.locator("#put-in-early").click()
        # Nobody presses anything: it begins as it is put in.
        expect(page.locator("#taken[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        row = page.locator("#taken tr", has=page.locator(".verdict-failed, .verdict-doubtful")).first
        number = re.sub(r"\D", "", row.get_attribute("id") or "")
        expect(row).to_contain_text("sector")
        row.get_by_role("button", name="hear it").click()
        expect(page.locator("#heard [data-hush]")).to_have_text("Pause")
        page.locator(f"#keep-{number}").click()
        expect(page.locator(f"#taken-{number}")).to_contain_text("taken in", timeout=A_WHILE_MS)
        kept = [path for path in Path(results / "archive-flac").rglob(f"0{number} *.flac") if "Spots" in str(path)]
        self.assertEqual(len(kept), 1)
        page.goto(f"{self.instance.address}/bench/")
        page.locator("#put-clean").select_option("demo:data")
        page.locator("#put-in-clean").click()
        expect(page.locator("main, .messages").first).to_contain_text("This is a data disc")
        self.assertEqual(self.faults, [])
