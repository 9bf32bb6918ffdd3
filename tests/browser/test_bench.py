"""The bench in the real interface: discs taken in and brought to a stick, which is taken out in the middle or put right."""

import json
import re
from pathlib import Path

import mutagen
import soundfile
from playwright.sync_api import Page, expect

from rumbrel.core.disc.data_disc import DataFile, write_data_disc
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.text import text_of
from rumbrel.core.inspection import inspect_file
from rumbrel.core.workflows.disc_sounds import programme_of
from tests.marks import slow
from tests.signals import leftovers, write_sound

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

    def test_a_pile_of_three_goes_to_the_stick_and_a_doubtful_track_is_heard_and_kept(self) -> None:
        self.shelved("rolls", "Museum barrels", 6, 7, 6)
        self.shelved("spots", "Spots", 40, 40)
        self.shelved("days", "Tower days", 5, 5)
        data = DataFile(path=self.instance.data / "made" / "rolls 1.wav", folder="", name="one.wav")
        shelf = self.instance.data / "shelf" / "demo"
        (shelf / "data").mkdir()
        write_data_disc([data], shelf / "data", "Data", medium=medium_for("80"))
        (shelf / "discs.json").write_text(json.dumps({"spots": {"label": "Spots", "condition": "broken"}}))
        page = self.page("/bench/", viewport={"width": 1280, "height": 860})
        page.locator("[data-shelf=disc][data-key='demo:rolls']").click()
        page.locator("#put-in-early").click()
        expect(page.locator("h1")).to_have_text("Museum barrels")
        with page.expect_navigation():
            page.get_by_label("Target", exact=True).select_option("car-mp3")
        with page.expect_navigation():
            page.get_by_label("Second target").select_option("archive-flac")
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
        with page.expect_navigation():
            page.locator("[data-shelf=disc][data-key='demo:spots']").drag_to(page.locator("#drive-early"))
        # Nobody presses anything: it begins as it is put in.
        expect(page.locator("#taken[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        row = page.locator("#taken tr", has=page.locator(".verdict-failed, .verdict-doubtful")).first
        number = re.sub(r"\D", "", row.get_attribute("id") or "")
        expect(row).to_contain_text("sector")
        row.get_by_role("button", name="Listen").click()
        expect(page.locator("#heard [data-hush]")).to_have_text("Pause")
        page.locator(f"#keep-{number}").click()
        expect(page.locator(f"#taken-{number}")).to_contain_text("taken in", timeout=A_WHILE_MS)
        kept = [path for path in Path(results / "archive-flac").rglob(f"0{number} *.flac") if "Spots" in str(path)]
        self.assertEqual(len(kept), 1)
        page.goto(f"{self.instance.address}/bench/")
        page.locator("[data-shelf=disc][data-key='demo:data']").click()
        page.locator("#put-in-clean").click()
        expect(page.locator("main, .messages").first).to_contain_text("This is a data disc")
        page.locator("[data-shelf=disc][data-key='demo:days']").click()
        page.locator("#put-in-clean").click()
        expect(page.locator("#taken[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        made = sorted(path for path in (results / "car-mp3").rglob("*.mp3"))
        # The scan of what was made follows by itself.
        page.goto(f"{self.instance.address}/work/")
        expect(page.locator("#jobs:not([hx-get])")).to_be_visible(timeout=A_WHILE_MS)
        page.goto(f"{self.instance.address}/?text=Barrel")
        page.get_by_role("button", name=f"Pull all {len(made)}").click()
        expect(page.locator("#pull")).to_contain_text(f"{len(made)} tracks")
        page.locator("#pull summary").click()
        page.locator("#pull").get_by_role("link", name="Deliver...").click()
        page.get_by_role("link", name="Tour bus").click()
        self.press(page, "#deliver-act", "#delivery table")
        expect(page.locator("#delivery .counts")).to_contain_text(f"{len(made)} copied", timeout=A_WHILE_MS)
        self.press(page, "#delivery-act", "#may-go")
        expect(page.locator("#may-go")).to_have_text("Tour bus is safe to remove.")
        there = sorted((self.instance.data / "volumes" / "stick-2gb").rglob("*.mp3"), key=lambda path: path.parts[-2:])
        self.assertEqual([path.read_bytes() for path in there], [path.read_bytes() for path in made])
        self.assertEqual({round(mutagen.File(path).info.bitrate / 1000) for path in there}, {320})
        self.assertEqual(self.faults, [])

    def press(self, page: Page, button: str, shown: str) -> None:
        page.locator(button).click()
        expect(page.locator(shown)).to_be_visible(timeout=A_WHILE_MS)

    def test_a_stick_taken_out_goes_on_and_an_old_one_is_put_right(self) -> None:
        card = self.instance.data / "volumes" / "card-16gb"
        for number in (1, 2):
            write_sound(card / "Old" / f"Old {number}.wma.flac", 44_100 * 5, seed=number)
        write_sound(card / "Old" / "Plays.ogg", 44_100 * 5, subtype="VORBIS")
        page = self.page("/bench/")
        page.get_by_role("link", name="Visitor guides").click()
        expect(page.get_by_text("3 sound files")).to_be_visible(timeout=A_WHILE_MS)
        with page.expect_navigation():
            page.get_by_label("Player", exact=True).select_option("open-vorbis")
        expect(page.get_by_text("do not play")).to_be_visible()
        self.press(page, "#put-right", "#delivery table")
        self.press(page, "#delivery-act", "#may-go")
        self.assertEqual(
            sorted(path.name for path in card.rglob("*.*") if path.is_file()),
            ["Old 1.wma.ogg", "Old 2.wma.ogg", "Plays.ogg"],
        )
        folder = self.instance.data / "demo" / "Longwalk"
        for number in range(6):
            write_sound(folder / f"Longwalk {number}.flac", 44_100 * 50, seed=number)
        page = self.gathered("Longwalk", 6)
        page.goto(f"{self.instance.address}/bench/?what=pulled")
        page.get_by_role("link", name="Tour bus").click()
        self.press(page, "#deliver-act", "#delivery table")
        page.locator("#delivery-act").click()
        expect(page.locator("#delivery[data-state=running]")).to_contain_text("Do not remove", timeout=A_WHILE_MS)
        stick = self.instance.data / "volumes" / "stick-2gb"
        page.locator("#plug").click()
        expect(page.locator("#delivery .note")).to_contain_text(
            "Nothing half-written is left on it", timeout=A_WHILE_MS
        )
        self.assertFalse(stick.exists())
        page.locator("#plug").click()
        expect(page.locator("#may-go")).to_be_visible(timeout=A_WHILE_MS)
        names = sorted(path.name for path in stick.rglob("*") if path.is_file() and "Longwalk" in str(path))
        self.assertEqual(names, [f"Longwalk {number}.mp3" for number in range(6)])
        self.assertEqual(leftovers(stick), [])
