"""Discs in the real interface: over, divided, levelled, spoiled and done again, of files, of a concert; read back by
libcdio and isoinfo."""

import re
import subprocess
from pathlib import Path

import numpy as np
import soundfile
from mutagen.flac import FLAC
from playwright.sync_api import Page, expect
from pypdf import PdfReader

from tests.marks import slow
from tests.signals import music, write_sound

from .test_walk import A_WHILE_MS
from .test_ways import WayCase

_WIDE = {"width": 1280, "height": 900}


def _tones(path: Path, seconds: int, *, seed: int, title: str) -> Path:
    """A long quiet hum that takes little room and little time to read."""
    path.parent.mkdir(parents=True, exist_ok=True)
    at = np.arange(8_000 * seconds) / 8_000
    soundfile.write(path, 0.1 * np.sin(2 * np.pi * (200 + 10 * seed) * at), 8_000, subtype="PCM_16")
    tagged = FLAC(path)
    tagged["title"], tagged["artist"] = title, f"Player {seed}"
    tagged.save()
    return path


@slow
class DiscTests(WayCase):
    own = "discs"

    def listed(self, name: str, count: int) -> Page:
        """The page of a playlist of the tracks of a folder of the demo's place."""
        page = self.page_with(self.instance.data / "demo" / name, f"done: {count} track")
        page.goto(f"{self.instance.address}/playlists/")
        if page.locator("#pull").get_by_role("button", name="Clear the pull list").is_visible():
            page.get_by_role("button", name="Clear the pull list").click()
        page.goto(f"{self.instance.address}/?text={name}")
        page.get_by_role("button", name=f"Pull all {count}").click()
        expect(page.locator("#pull")).to_contain_text(f"{count} tracks")
        page.goto(f"{self.instance.address}/playlists/")
        page.get_by_label("Make a list of the pulled tracks").fill(name)
        page.get_by_role("button", name="Make playlist").click()
        expect(page.locator("h1")).to_have_text(name)
        return page

    def laid_out(self, name: str, count: int, medium: str = "21") -> Page:
        page = self.listed(name, count)
        page.locator("main").get_by_role("button", name="Make a disc...").click()
        page.wait_for_load_state()
        if medium != "80":
            page.get_by_label("Blank", exact=True).select_option(medium)
            expect(page.locator("#disc-ruler svg:visible")).to_have_attribute(
                "aria-label", re.compile(f"{medium} minute")
            )
        return page

    def written(self, page: Page, shelf: str) -> Page:
        """Put a blank in and write; the page of the write when it has ended."""
        # An answer that comes between pressing and letting go takes the button away with the page's part.
        expect(page.locator(".htmx-request")).to_have_count(0)
        with page.expect_navigation():
            page.locator("#to-write").click()
        page.get_by_label("Put in").select_option(shelf)
        page.get_by_role("button", name="Put in").click()
        page.locator("#write-act").click()
        expect(page.locator("#stage[data-state=written], #stage[data-state=failed]")).to_be_visible(timeout=A_WHILE_MS)
        return page

    def image(self, page: Page) -> Path:
        """The written image, by the address of the page."""
        number = re.search(r"/discs/(\d+)/", page.url)
        assert number is not None
        (found,) = [
            path for path in (self.instance.data / "discs" / number[1]).iterdir() if path.suffix in (".cue", ".iso")
        ]
        return found

    def test_jobs_take_the_presses_that_the_guide_counts(self) -> None:
        """A list, and a long file with its cue sheet, become written discs by three presses each."""
        folder = self.instance.data / "demo" / "Shortday"
        for number in range(2):
            _tones(folder / f"Shortday {number}.flac", 6, seed=number, title=f"Short {number}")
        page = self.listed("Shortday", 2)
        self.pressed(page, 'main button:has-text("Make a disc...")', "#to-write", "#write-act")
        expect(page.get_by_text("identical", exact=True)).to_have_count(2)
        _tones(folder / "long" / "Longfile.flac", 30, seed=9, title="Longfile")
        marks = "".join(f'TRACK {n:02d} AUDIO\nTITLE "Piece {n}"\nINDEX 01 00:{n * 8 - 8:02d}:00\n' for n in (1, 2, 3))
        (folder / "long" / "Longfile.cue").write_text(f'FILE "Longfile.flac" WAVE\n{marks}')
        page = self.page_with(folder / "long", "done: 1 track")
        page.goto(f"{self.instance.address}/?text=Longfile")
        number = page.locator("tr[data-track]", has_text="Longfile").first.get_attribute("data-track")
        page.goto(f"{self.instance.address}/tracks/{number}/")
        self.pressed(page, "#disc-1", "#to-write", "#write-act")
        expect(page.get_by_text("identical", exact=True)).to_have_count(3)
        self.assertEqual(self.faults, [])

    def pressed(self, page: Page, *buttons: str) -> None:
        """Press one after another, each on the page that the one before led to; then the disc is written."""
        for button in buttons:
            expect(page.locator(".htmx-request")).to_have_count(0)
            with page.expect_navigation():
                page.locator(button).click()
        expect(page.locator("#stage[data-state=written]")).to_be_visible(timeout=A_WHILE_MS)

    def test_one_that_runs_over_becomes_two_written_and_read_back(self) -> None:
        for number in range(4):
            _tones(
                self.instance.data / "demo" / "Longday" / f"Longday {number}.flac",
                420,
                seed=number,
                title=f"Hour {number}",
            )
        page = self.laid_out("Longday", 4)
        expect(page.locator("#disc-free")).to_have_text("over by 7 min 6 s")
        page.locator("#preview-even").click()
        expect(page.locator("#disc-preview svg")).to_have_count(2)
        expect(page.locator("#disc-free")).to_contain_text("Longday 1: 6 min 58 s free, Longday 2:")
        page.locator("#preview-even").click()
        expect(page.locator("#disc-free")).to_have_text("over by 7 min 6 s")
        page.locator("#offer-even").click()
        expect(page.locator("#disc-free")).to_have_text("free 6 min 58 s")
        page.keyboard.press("u")
        expect(page.locator("#disc-free")).to_have_text("over by 7 min 6 s")
        page.locator("#offer-even").click()
        second = page.get_by_role("link", name="Longday 2")
        expect(second).to_be_visible()
        address = second.get_attribute("href")
        self.written(page, "21")
        expect(page.get_by_text("identical", exact=True)).to_have_count(2)
        first = self.image(page)
        page.goto(self.instance.address + address)
        self.written(page, "21")
        expect(page.get_by_text("identical", exact=True)).to_have_count(2)
        for image, titles in ((first, ("Hour 0", "Hour 1")), (self.image(page), ("Hour 2", "Hour 3"))):
            said = subprocess.run(
                ["cd-info", "--no-header", "--no-device-info", "--cue-file", str(image)],
                capture_output=True,
                text=True,
                check=True,
            )
            self.assertEqual(len(re.findall(r"^ +\d+: \d\d:\d\d:\d\d .*audio", said.stdout, re.M)), 2, said.stdout)
            for title in titles:
                self.assertIn(title, image.read_text())
        self.assertEqual(self.faults, [])

    def test_a_list_that_runs_over_is_put_right_levelled_named_written_read_back_and_its_inlay_printed(self) -> None:
        folder = self.instance.data / "demo" / "Levelday"
        for number, gain in enumerate((1.0, 0.25, 0.5)):
            sound = music(44_100 * 8, seed=number) * gain
            folder.mkdir(parents=True, exist_ok=True)
            soundfile.write(folder / f"Levelday {number}.wav", sound, 44_100, subtype="PCM_16")
        _tones(folder / "Levelday 3.flac", 1_260, seed=3, title="Too long")
        page = self.laid_out("Levelday", 4)
        expect(page.locator("#disc-free")).to_contain_text("over by")
        page.locator("tr", has_text="Leave out track 4").first.get_by_role("button", name="Use").click()
        expect(page.locator("#disc-free")).to_contain_text("free 20 min")
        expect(page.locator("#measuring[hx-get]")).to_have_count(0, timeout=A_WHILE_MS)
        expect(page.locator("#disc tbody[data-disc-rows] tr").first.locator("td").nth(6)).to_have_text("0.0")
        page.get_by_label("Loudness", exact=True).select_option("track")
        expect(page.locator("#disc tbody[data-disc-rows] tr").first.locator("td").nth(6)).not_to_have_text("0.0")
        gains = page.locator("#disc tbody[data-disc-rows] tr td:nth-child(8)").all_inner_texts()
        self.assertTrue(all(re.fullmatch(r"[+−]\d+\.\d", gain) for gain in gains), gains)
        self.assertGreater(float(gains[1].replace("−", "-")), float(gains[0].replace("−", "-")) + 6)
        page.get_by_label("Gap between all tracks").select_option("3")
        expect(page.locator("#gap-2")).to_have_value("3 s")
        page.locator("#gap-3").fill("0:01:37")
        page.keyboard.press("Enter")
        expect(page.locator("#gap-3")).to_have_value("0:01:37")
        page.locator("#title-1").fill("Öffnung – “Glocken”")
        page.keyboard.press("Enter")
        expect(page.locator("#cd-text summary")).to_contain_text("characters change")
        page.get_by_label("Title of the disc").fill("Level best")
        page.keyboard.press("Enter")
        expect(page.locator("#disc-name")).to_have_value("Level best")
        self.written(page, "21")
        expect(page.get_by_text("identical", exact=True)).to_have_count(3)
        cue = self.image(page)
        said = subprocess.run(
            ["cd-info", "--no-header", "--no-device-info", "--cue-file", str(cue)],
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        starts = re.findall(r"^ +\d+: (\d\d:\d\d:\d\d) .*audio", said, re.M)
        self.assertEqual(
            starts, ["00:02:00", "00:13:00", "00:22:37"], "8 s, 3 s of gap, 8 s, 1 s 37 frames, behind the first 2 s"
        )
        self.assertIn(b'\xd6ffnung - "Glock', self.texts(cue))
        peaks = []
        raw = np.frombuffer(cue.with_suffix(".bin").read_bytes(), dtype="<i2").reshape(-1, 2)
        for start in (0, 11 * 44_100, 20 * 44_100 + 37 * 588):
            peaks.append(float(np.sqrt(np.mean((raw[start : start + 7 * 44_100] / 32768) ** 2))))
        self.assertLess(max(peaks) / min(peaks), 1.6, "12 dB apart before, equally loud now")
        page.goto(page.url.replace("/write/", "/"))
        page.locator("a[href$='/inlay/']").first.click()
        with page.expect_download() as download:
            page.locator("a[href*='.pdf']").first.click()
        printed = PdfReader(download.value.path())
        self.assertIn("Level best", printed.pages[0].extract_text())
        self.assertEqual(self.faults, [])

    def texts(self, cue: Path) -> bytes:
        """The text of all packs, joined."""
        packs = cue.with_suffix(".cdt").read_bytes()
        return b"".join(packs[at + 4 : at + 16] for at in range(0, len(packs), 18))

    def test_spoiled_and_done_again_slower(self) -> None:
        for number in range(2):
            write_sound(self.instance.data / "demo" / "Spoilday" / f"Spoilday {number}.flac", 400_000, seed=number)
        page = self.laid_out("Spoilday", 2, "80")
        expect(page.locator(".htmx-request")).to_have_count(0)
        with page.expect_navigation():
            page.locator("#to-write").click()
        with page.expect_navigation():
            page.get_by_label("Speed", exact=True).select_option("24")
        page.get_by_label("Put in").select_option("80-weak")
        page.get_by_role("button", name="Put in").click()
        page.locator("#test-act").click()
        expect(page.locator("#stage")).to_contain_text("The test write at 24x went well", timeout=A_WHILE_MS)
        page.locator("#write-act").click()
        expect(page.locator("#stage[data-state=failed]")).to_be_visible(timeout=A_WHILE_MS)
        expect(page.locator(".remedies li").nth(1)).to_have_text("Write slower: 8x is careful.")
        expect(page.locator("#tray-said")).to_contain_text("spoiled")
        with page.expect_navigation():
            page.get_by_label("Speed", exact=True).select_option("8")
        page.get_by_label("Put in").select_option("80-weak")
        page.get_by_role("button", name="Put in").click()
        page.locator("#write-act").click()
        expect(page.locator("#stage[data-state=written]")).to_be_visible(timeout=A_WHILE_MS)
        expect(page.locator("#tray-said")).to_have_text("empty")
        page.get_by_label("play track 2 of the written disc").click()
        expect(page.locator("#heard [data-hush]")).to_have_text("Pause")
        self.assertEqual(self.faults, [])

    def test_a_disc_of_files_is_told_apart_and_read_by_isoinfo(self) -> None:
        for number in range(3):
            write_sound(self.instance.data / "demo" / "Fileday" / f"Fileday {number}.flac", 90_000, seed=number)
        page = self.laid_out("Fileday", 3, "80")
        page.get_by_label("Where it plays").select_option("data")
        expect(page.locator("#disc")).to_contain_text("No standard player plays it")
        expect(page.locator("#disc-free")).to_contain_text("MB")
        expect(page.locator("#disc tbody[data-disc-rows] tr")).to_have_count(3)
        page.get_by_label("Where it plays").select_option("files")
        expect(page.locator("#disc")).to_contain_text("A standard CD player shows no tracks on it")
        # The list may look the same before: what is pressed next is there when the answer is.
        with page.expect_response(lambda answer: answer.request.method == "POST"):
            page.get_by_label("Files for").select_option("car-mp3")
        expect(page.locator("#disc tbody[data-disc-rows]")).to_contain_text("001 Fileday 0.mp3")
        self.written(page, "80")
        expect(page.get_by_text("identical", exact=True)).to_have_count(3)
        said = subprocess.run(
            ["isoinfo", "-J", "-f", "-i", str(self.image(page))], capture_output=True, text=True, check=True
        )
        for number in range(3):
            self.assertRegex(said.stdout, rf"/00{number + 1} Fileday {number}\.mp3")
        self.assertEqual(self.faults, [])

    def test_a_concert_runs_on_and_its_image_holds_the_unbroken_sound(self) -> None:
        folder = self.instance.data / "demo" / "Concertday"
        folder.mkdir(parents=True)
        whole = music(44_100 * 20 + 777, seed=5)
        edges = [0, 44_100 * 6 + 123, 44_100 * 13 + 50, len(whole)]
        for number, (start, end) in enumerate(zip(edges, edges[1:], strict=False)):
            path = folder / f"Concertday {number}.flac"
            soundfile.write(path, whole[start:end], 44_100, subtype="PCM_16")
            tagged = FLAC(path)
            tagged["title"], tagged["album"] = f"Part {number}", "Tower concert"
            tagged.save()
        page = self.laid_out("Concertday", 3, "80")
        proposal = page.locator("#checklist").get_by_role("button", name="run all on")
        expect(proposal).to_be_visible(timeout=A_WHILE_MS)
        expect(page.locator("#checklist")).to_contain_text("2 joins of one recording could run on")
        expect(page.locator("#checklist")).to_contain_text("tracks 2 and 3 are one recording (Part 1, Part 2)")
        proposal.click()
        expect(page.locator("#gap-3")).to_have_value("runs on")
        self.written(page, "80")
        expect(page.get_by_text("identical", exact=True)).to_have_count(3)
        raw = np.frombuffer(self.image(page).with_suffix(".bin").read_bytes(), dtype="<i2").reshape(-1, 2)
        parts = [soundfile.read(folder / f"Concertday {n}.flac", dtype="int16")[0] for n in range(3)]
        np.testing.assert_array_equal(raw[: len(whole)], np.concatenate(parts))
        self.assertEqual(self.faults, [])
