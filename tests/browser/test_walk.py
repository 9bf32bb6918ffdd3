"""Stations 1 to 5 in the real interface, with the demo data, the server and the consumer."""

import re
import subprocess
import sys
import tempfile
from pathlib import Path

import mutagen.flac
from playwright.sync_api import Page, Route, expect

from rumbrel.core.targets import all_targets
from tests.marks import slow
from tests.signals import write_framed, write_sound

from .case import ROOT, BrowserCase

A_WHILE_MS = 300_000


class FolderCase(BrowserCase):
    """On instances of their own, with folders of their own."""

    command = "serve"

    def page_with(self, folder: Path, said: str) -> Page:
        """A page on which a folder was added, whose scan has said something."""
        page = self.page("/folders/", viewport={"width": 1280, "height": 800})
        page.get_by_label("Folder", exact=True).fill(str(folder))
        page.get_by_role("button", name="Add and scan").click()
        expect(page.locator("#folders tr", has_text=str(folder))).to_contain_text(said, timeout=A_WHILE_MS)
        return page


@slow
class WalkTests(BrowserCase):
    def test_the_whole_way(self) -> None:
        page = self.page(viewport={"width": 1280, "height": 800})
        # 1 and 2: the demo opens with its folders scanned; faults are listed, words are found as they are typed.
        expect(page.get_by_text(re.compile(r"^29 of 29 tracks"))).to_be_visible()
        for fault in ("cut short", "empty", "wrong extension"):
            expect(page.locator("th", has_text=fault).first).to_be_visible()
        page.get_by_role("button", name="Clear the pull list").click()
        expect(page.locator(".message")).to_contain_text(re.compile(r"\d+ tracks taken off"))
        page.wait_for_load_state()
        page.keyboard.press("/")
        page.keyboard.type("spoken notice")
        expect(page.locator("#results").get_by_text(re.compile(r"^3 of 29 tracks"))).to_be_visible()
        self.assertIn("text=spoken+notice", page.url.replace("%20", "+"))
        page.locator("#text").blur()
        page.keyboard.press("j")
        page.keyboard.press("p")
        expect(page.locator("#pull")).to_contain_text("1 track")
        page.get_by_role("button", name="Pull all 3").click()
        expect(page.locator("#pull")).to_contain_text("3 tracks")
        page.locator("#text").fill("quarter")
        page.get_by_role("button", name="Pull Quarter hours").click()
        expect(page.locator("#pull")).to_contain_text("4 tracks")
        page.get_by_role("link", name="Quarter hours").click()
        expect(page.locator("#side")).to_contain_text("4,145,400 samples")
        page.go_back()
        expect(page.locator("h1")).to_have_text("Collection")
        # 3: targets.
        page.get_by_role("link", name="Targets", exact=True).click()
        expect(page.locator("tbody tr")).to_have_count(len(all_targets()))
        # 4: forecast, batch, report.
        page.wait_for_load_state()  # What stands on a page is there before the scripts that hear its keys.
        page.keyboard.press("f")
        page.get_by_label("Target", exact=True).select_option("phone-ulaw")
        expect(page.locator("tbody").last).to_contain_text("plays as it is")
        page.get_by_role("button", name="Start batch").click()
        expect(page.locator("#batch[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        expect(page.locator("#items").get_by_text("passed", exact=True)).to_have_count(3)
        expect(page.locator("#items").get_by_text("identical file", exact=True)).to_have_count(1)
        results = list((self.instance.data / "results" / "phone-ulaw" / "Quernstow Carillon Trust").rglob("*.wav"))
        self.assertEqual(len(results), 4)
        with page.expect_download() as download:
            page.get_by_role("link", name="Download all").click()
        self.assertTrue(download.value.suggested_filename.endswith(".zip"))
        # 5: playlist, order, disc, write, read-back.
        page.goto(f"{self.instance.address}/playlists/")
        page.get_by_label("Make a list of the pulled tracks").fill("Shop disc")
        page.get_by_role("button", name="Make playlist").click()
        row = page.locator("#list tbody tr").last
        last, mark = (
            row.locator(".name").first.inner_text(),
            page.locator(f"#{row.locator('input').get_attribute('id')}"),
        )
        page.wait_for_load_state()
        mark.focus()
        page.keyboard.press("Alt+ArrowUp")
        expect(page.locator("#list tbody tr").nth(2)).to_contain_text(last)
        expect(mark).to_be_focused()
        page.keyboard.press("u")
        expect(page.locator("#list tbody tr").nth(3)).to_contain_text(last)
        page.locator("main").get_by_role("button", name="Make a disc...").click()
        expect(page.locator(".big")).to_contain_text("free")
        page.get_by_label("Blank", exact=True).select_option("74")
        expect(page.locator(".ruler:visible")).to_have_attribute("aria-label", "4 tracks on the 74 minute blank")
        page.get_by_role("link", name="Write").click()
        page.get_by_label("Put in").select_option("74")
        page.get_by_role("button", name="Put in").click()
        page.locator("#write-act").click()
        expect(page.locator("#stage[data-state=written]")).to_be_visible(timeout=A_WHILE_MS)
        expect(page.get_by_text("identical", exact=True)).to_have_count(4)
        self.assertEqual(len(list(self.instance.data.rglob("Shop disc.cue"))), 1)
        page.keyboard.press("w")
        expect(page.locator("h1")).to_have_text("Work")
        expect(page.locator("main")).to_contain_text("the disc is identical")
        self.assertEqual(self.faults, [])

    def test_the_tour_is_left_and_stays_away_and_each_screen_leads_to_its_guide(self) -> None:
        page = self.page(viewport={"width": 1280, "height": 800})
        tour = page.locator("#tour")
        expect(tour).to_contain_text("1 of 6")
        page.locator("#tour-next").click()
        expect(page).to_have_url(re.compile("/where/"))
        page.locator("#tour-leave").click()
        expect(tour).to_have_count(0)
        page.goto(f"{self.instance.address}/discs/")
        expect(tour).to_have_count(0)
        page.get_by_role("link", name="Guide", exact=True).click()
        expect(page.locator("article h1")).to_have_text("Discs")
        page.get_by_role("link", name="A playlist to a levelled disc with CD-Text").click()
        picture = page.locator("article img")
        picture.scroll_into_view_if_needed()
        expect(picture).to_be_visible()
        picture.evaluate("image => image.decode()")
        self.assertEqual(self.faults, [])

    def test_a_choice_made_with_the_arrow_keys_waits_for_enter(self) -> None:
        page = self.page(viewport={"width": 1280, "height": 800})
        page.get_by_label("Format", exact=True).focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowDown")
        expect(page.get_by_text(re.compile(r"^29 of 29 tracks"))).to_be_visible()
        page.keyboard.press("Enter")
        expect(page.get_by_text(re.compile(r"^29 of 29 tracks"))).to_have_count(0)
        expect(page.get_by_label("Format", exact=True)).to_be_focused()

    def test_single_keys_are_switched_off_and_on_again(self) -> None:
        page = self.page("/help/", viewport={"width": 1280, "height": 800})
        for on in (False, True):
            page.get_by_label("Single keys are shortcuts").set_checked(on)
            expect(page.locator("[data-keys-said]")).to_contain_text("On." if on else "Off.")
            page.get_by_role("link", name="Collection", exact=True).click()
            page.wait_for_load_state()
            page.keyboard.press("/")
            self.assertEqual(page.evaluate("document.activeElement.id"), "text" if on else "")
            page.locator("#text").blur()
            page.keyboard.press("j")
            expect(page.locator("tr[data-row] a:focus")).to_have_count(1 if on else 0)
            page.goto(f"{self.instance.address}/help/")

    def test_what_a_press_came_to_is_spoken(self) -> None:
        page = self.page(viewport={"width": 1280, "height": 800})
        page.wait_for_load_state()
        expect(page.locator("#spoken")).to_be_empty()
        page.locator("#text").fill("spoken notice")
        expect(page.locator("#spoken")).to_contain_text("3 of 29 tracks")
        page.locator("#text").blur()
        mark = page.locator("tr[data-row] [data-pull]").first
        before = page.locator("#pull [data-spoken]").inner_text()
        mark.click()
        expect(page.locator("#spoken")).to_contain_text("Pull list")
        self.assertNotEqual(page.locator("#pull [data-spoken]").inner_text(), before)
        mark.click()
        expect(page.locator("#pull [data-spoken]")).to_have_text(before, use_inner_text=True)
        page.goto(f"{self.instance.address}/playlists/1/")
        page.wait_for_load_state()
        page.locator("tr[data-row] .row-link").nth(1).focus()
        page.keyboard.press("Alt+ArrowUp")
        expect(page.locator("#spoken")).to_contain_text("moved")
        page.keyboard.press("u")
        expect(page.locator("#spoken")).to_contain_text("Undone: ")
        self.assertEqual(self.faults, [])

    def test_a_single_key_is_changed_and_is_kept(self) -> None:
        page = self.page("/help/", viewport={"width": 1280, "height": 800})
        search = page.locator("[data-key-for='/']")
        search.fill("j")
        search.blur()
        expect(page.locator("[data-keys-said]")).to_contain_text("j is in use: next row")
        expect(search).to_have_value("/")
        for key, other in (("/", "q"), ("d", "é")):
            page.locator(f"[data-key-for='{key}']").fill(other)
            page.locator(f"[data-key-for='{key}']").blur()
            expect(page.locator("[data-keys-said]")).to_contain_text(f"Kept: {other}.")
        page.goto(f"{self.instance.address}/")
        page.wait_for_load_state()
        expect(page.locator("[data-theme-switch] kbd")).to_have_text("é")
        page.keyboard.press("/")
        self.assertEqual(page.evaluate("document.activeElement.id"), "")
        page.keyboard.press("q")
        self.assertEqual(page.evaluate("document.activeElement.id"), "text")
        page.goto(f"{self.instance.address}/help/")
        expect(page.locator("[data-key-for='/']")).to_have_value("q")
        page.get_by_role("button", name="Reset all keys").click()
        expect(page.locator("[data-key-for='/']")).to_have_value("/")
        page.goto(f"{self.instance.address}/")
        page.wait_for_load_state()
        page.keyboard.press("/")
        self.assertEqual(page.evaluate("document.activeElement.id"), "text")

    def test_rows_from_the_marked_one_to_another_are_pulled_at_once_and_no_press_is_lost_silently(self) -> None:
        page = self.page(viewport={"width": 1280, "height": 800})
        marks = page.locator("tr[data-row] [data-pull]")
        page.get_by_role("button", name="Clear the pull list").click()
        marks.nth(3).click()
        expect(page.locator("#pull")).to_contain_text("1 track")
        marks.nth(6).click(modifiers=["Shift"])
        expect(page.get_by_text("3 tracks pulled.")).to_be_visible()
        expect(page.locator("#pull")).to_contain_text("4 tracks")
        self.assertEqual(
            [marks.nth(at).get_attribute("aria-pressed") for at in (2, 3, 6, 7)], ["false", "true", "true", "false"]
        )
        for key in ("j", "p", "j", "j", "Shift+P"):
            page.keyboard.press(key)
            if key == "p":
                expect(page.locator("#pull")).to_contain_text("5 tracks")
        expect(page.locator("#pull")).to_contain_text("7 tracks")
        self.assertEqual(self.faults, [])
        busy = "<main><h1>Not now</h1><p>The database is kept.</p></main>"
        page.route("**/pull/**", lambda route: route.fulfill(status=503, content_type="text/html", body=busy))
        marks.nth(20).click()
        expect(page.locator("#told")).to_have_text("The database is kept.")
        expect(page.locator("#told")).to_be_in_viewport()
        page.unroute("**/pull/**")
        marks.nth(20).click()
        expect(page.locator("#told")).to_have_text("")
        page.route("**/pull/**", lambda route: route.abort())
        marks.nth(0).click()
        expect(page.locator("#told")).to_contain_text("Rumbrel does not answer.")
        page.unroute("**/pull/**")
        marks.nth(0).click()
        expect(page.locator("#told")).to_have_text("")

    def test_the_focus_stays_and_an_end_is_said_wherever_the_user_is(self) -> None:
        page = self.page("/folders/", viewport={"width": 1280, "height": 800})
        page.locator("#act-2").focus()
        page.keyboard.press("Enter")
        expect(page.locator("#said")).to_contain_text("Scan of Tape transfers: done")
        expect(page.locator("#act-2")).to_be_focused()
        page.goto(f"{self.instance.address}/batches/forecast/?target=disc-wav")
        # Enter on the page itself starts nothing; its own two keys do.
        page.evaluate("document.addEventListener('submit', () => { window.sent = (window.sent ?? 0) + 1; }, true)")
        page.keyboard.press("Enter")
        self.assertIsNone(page.evaluate("window.sent"))
        page.keyboard.press("Control+Enter")
        expect(page.locator("#batch")).to_be_visible()
        page.add_init_script("Object.defineProperty(document, 'visibilityState', {get: () => 'hidden'})")
        page.add_init_script(
            """window.told = [];
            window.Notification = class { constructor(title, more) { window.told.push(more.body); } };
            window.Notification.permission = "granted";"""
        )
        page.get_by_role("link", name="Help").click()
        expect(page.locator("#said")).to_contain_text("Tracks for an audio CD, WAV: done", timeout=A_WHILE_MS)
        expect(page).to_have_title(re.compile("^Ended · Help"))
        self.assertRegex(
            page.evaluate("window.told.join()"), r"audio CD, WAV: done( with failures)?. \d+ results? in /"
        )

    def test_the_demo_shows_something_on_every_screen(self) -> None:
        page = self.page(viewport={"width": 1280, "height": 800})
        for address, words in (
            ("/folders/", "Tape transfers"), ("/batches/", "1 failed"), ("/playlists/", "Shop CD, everything"),
            ("/discs/", "written"), ("/bench/", "Barrel organ rolls.bin"), ("/work/", "1 in part"),
            ("/where/", "Lossless archive, FLAC"), ("/batches/forecast/", "MB now"),
        ):  # fmt: skip
            page.goto(self.instance.address + address)
            expect(page.locator("main")).to_contain_text(words)
        page.goto(f"{self.instance.address}/discs/")
        page.get_by_role("link", name="Shop CD, everything", exact=True).click()
        expect(page.locator(".big")).to_contain_text("over by")

    def test_narrow_and_dark_lose_nothing(self) -> None:
        page = self.page(viewport={"width": 390, "height": 800}, color_scheme="dark")
        for address in (
            "/", "/folders/", "/tracks/1/", "/where/", "/targets/", "/batches/", "/batches/1/", "/batches/forecast/",
            "/playlists/", "/playlists/1/", "/discs/", "/discs/1/", "/discs/2/write/", "/discs/1/inlay/",
            "/discs/1/track/1/", "/playlists/1/export/", "/bench/", "/work/", "/help/", "/gallery/", "/nowhere/",
        ):  # fmt: skip
            page.goto(self.instance.address + address)
            wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
            self.assertLessEqual(wide, 0, address)
        self.assertEqual(page.evaluate("getComputedStyle(document.body).backgroundColor"), "rgb(17, 22, 27)")
        page.goto(f"{self.instance.address}/")
        page.keyboard.press("d")
        self.assertEqual(page.evaluate("getComputedStyle(document.body).backgroundColor"), "rgb(246, 243, 234)")
        self.assertEqual([fault for fault in self.faults if "/nowhere/" not in fault], [])

    def test_a_folder_or_a_port_in_use_is_said(self) -> None:
        with tempfile.TemporaryDirectory() as other:
            for data, words in (
                (self.instance.data, "is running with"), (other, f"Port {self.instance.port} is in use")
            ):  # fmt: skip
                done = subprocess.run(
                    [sys.executable, str(ROOT / "manage.py"), "serve"],
                    env={**self.instance.environment, "RUMBREL_DATA": str(data)}, capture_output=True, text=True,
                )  # fmt: skip
                self.assertEqual(done.returncode, 1)
                self.assertIn(words, done.stderr)


@slow
class DropTests(BrowserCase):
    command, own, alone = "serve", "drop", True

    def drop(self, page: Page, files: dict[str, str]) -> None:
        page.evaluate(
            """(files) => {
                const data = new DataTransfer();
                for (const [name, text] of Object.entries(files)) data.items.add(new File([text], name));
                document.body.dispatchEvent(new DragEvent("drop", {dataTransfer: data, bubbles: true}));
            }""",
            files,
        )

    def test_files_are_dropped_on_any_page(self) -> None:
        page = self.page("/targets/", viewport={"width": 1280, "height": 800})
        page.wait_for_load_state()
        self.drop(page, {"dropped.mp3": "no sound", "other.mp3": "none either"})
        expect(page.locator("#told")).to_contain_text("2 files added to")
        self.assertEqual((self.instance.data / "dropped" / "dropped.mp3").read_text(), "no sound")
        self.drop(page, {"again.mp3": "none either", "dropped.mp3": "no sound"})
        expect(page.locator("#told")).to_contain_text("already there")
        page.evaluate("document.body.dataset.largestBytes = 5")
        self.drop(page, {"large.mp3": "too much", "small.mp3": "x"})
        for said in ("1 file added", "large.mp3: it is", "name its folder as a source folder"):
            expect(page.locator("#told")).to_contain_text(said)
        expect(page.locator("#said")).to_contain_text("Scan of dropped: done")
        self.assertEqual(self.faults, [])

    def test_a_folder_is_dropped_through_a_bad_connection(self) -> None:
        page = self.page("/folders/", viewport={"width": 1280, "height": 800})
        lost = []

        def lose_the_first(route: Route) -> None:
            if lost:
                route.continue_()
            else:
                lost.append(route.request.url)
                route.abort("connectionreset")

        page.route("**/drop/file/**", lose_the_first)
        with tempfile.TemporaryDirectory() as folder:
            for number in range(3):
                write_sound(Path(folder, "Tower days", f"Day {number}", "peal.wav"), seed=number)
            page.locator("#whole").set_input_files(Path(folder, "Tower days"))
            page.get_by_role("button", name="Add the folder").click()
            expect(page.locator("#told")).to_contain_text("Trying again in 2 s")
            expect(page.locator("#told")).to_contain_text("3 files added to", timeout=A_WHILE_MS)
        kept = self.instance.data / "dropped" / "Tower days"
        self.assertEqual(len(list(kept.rglob("peal.wav"))), 3)
        page.goto(f"{self.instance.address}/?text=tower+days")
        expect(page.locator("tr[data-row]")).to_have_count(3, timeout=A_WHILE_MS)

    def test_a_source_folder_is_found_without_typing(self) -> None:
        write_sound(self.instance.data / "demo" / "Chimes" / "slow" / "chime.wav")
        page = self.page("/folders/", viewport={"width": 1280, "height": 800})
        page.locator("#browse a", has_text=str(self.instance.data / "demo")).click()
        expect(page.locator("#browse tr", has_text="Chimes")).to_contain_text("1")
        page.locator("#browse a", has_text="Chimes").click()
        expect(page.locator("#browse tr", has_text="slow")).to_be_visible()
        page.get_by_role("button", name="Add this folder and scan").click()
        expect(page.locator("#folders tr", has_text="Chimes")).to_contain_text("done", timeout=A_WHILE_MS)


@slow
class ListenTests(FolderCase):
    own, alone = "listen", True

    def test_a_track_that_browsers_do_not_play_is_heard_from_its_middle(self) -> None:
        folder = self.instance.data / "demo" / "heard"
        write_framed(folder / "Long bell.wma", "wmav2", muxer="asf", rate=44_100, seconds=30)
        page = self.page_with(folder, "1 track")
        page.goto(f"{self.instance.address}/?text=long+bell")
        page.wait_for_load_state()
        page.keyboard.press("j")
        page.keyboard.press("Enter")
        ruler = page.locator("#side [data-ruler]")
        box = ruler.bounding_box()
        ruler.click(position={"x": box["width"] / 2, "y": 20})
        expect(page.locator("#side [data-from]")).to_have_text(re.compile(r"^0:1[45]\."))
        page.keyboard.press("Space")
        expect(page.locator("#heard")).to_contain_text("Pause Long bell")
        expect(page.locator("#side [data-from]")).to_have_text(re.compile(r"^0:1[6789]\."), timeout=A_WHILE_MS)
        page.keyboard.press("Space")
        expect(page.locator("#heard")).to_contain_text("Play on Long bell")
        self.assertEqual(page.locator("[data-trouble]").inner_text(), "")
        # Open track has the picture made by itself; what is marked can be looked at and repeats.
        page.locator("#side h2 a").first.click()
        expect(page.locator("[data-ready]")).to_be_visible(timeout=A_WHILE_MS)
        page.keyboard.press("m")
        page.keyboard.press(".")
        page.keyboard.press("m")
        page.get_by_label("Part shown").select_option("mark")
        expect(page.locator("[data-mark]")).to_be_visible()
        self.assertGreater(page.locator("[data-mark]").bounding_box()["width"], 1_000, "what is marked fills the ruler")
        page.keyboard.press("0")
        expect(page.get_by_label("Part shown")).to_have_value("whole")
        # A sample of it as a target would make it; changing over to the source keeps the place.
        page.goto(f"{self.instance.address}/targets/speech-small/")
        page.get_by_label("From second").fill("8")
        page.get_by_role("button", name="Make sample").click()
        after, now = (
            page.get_by_role("button", name="Listen to result"),
            page.get_by_role("button", name="Listen to source"),
        )
        after.click(timeout=A_WHILE_MS)
        expect(after).to_have_attribute("aria-pressed", "true")
        expect(page.locator("[data-sample-at]")).to_have_text(re.compile(r"^[1-9]\.\d s"), timeout=A_WHILE_MS)
        now.click()
        expect(now).to_have_attribute("aria-pressed", "true")
        expect(page.locator("[data-sample-at]")).to_have_text(re.compile(r"^[1-9]\.\d s"), timeout=A_WHILE_MS)
        now.click()
        expect(now).to_have_attribute("aria-pressed", "false")
        self.assertEqual(self.faults, [])


@slow
class TagTests(FolderCase):
    own, alone = "tags", True

    def test_tags_of_twelve_files_are_edited_and_taken_back(self) -> None:
        folder = self.instance.data / "demo" / "Barrel rolls"
        paths = [write_sound(folder / f"{number:02d} Roll {number}.flac", seed=number) for number in range(1, 13)]
        page = self.page_with(folder, "done: 12")
        page.goto(self.instance.address)
        page.get_by_role("button", name="Pull all 12").click()
        page.wait_for_load_state()
        page.keyboard.press("e")
        expect(page.locator("h1")).to_have_text("Edit tags")
        page.wait_for_load_state()
        page.get_by_label("From file names").fill("{track:02d} {title}")
        expect(page.locator("[data-count=pattern]")).to_have_text("changes 12")
        performers = page.locator(".tag-cell[data-field=artist]")
        performers.first.fill("M. Orrel")
        performers.last.click(modifiers=["Shift"])
        page.keyboard.press("Control+d")
        expect(page.locator("td.is-changed .tag-cell[data-field=artist]")).to_have_count(12)
        # A column from a spreadsheet, into the rows from the one that has the focus.
        page.locator(".tag-cell[data-field=genre]").nth(10).focus()
        page.evaluate("""() => { const data = new DataTransfer(); data.setData("text/plain", "Polka\\nWaltz\\n");
            document.activeElement.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true })); }""")
        page.get_by_role("button", name="Save 38 changes in 12 files").click()
        expect(page.locator("#edited")).to_contain_text("12 files written, the sound of each", timeout=A_WHILE_MS)
        tags = mutagen.flac.FLAC(paths[6]).tags
        self.assertEqual((tags["TITLE"], tags["TRACKNUMBER"], tags["ARTIST"]), (["Roll 7"], ["7"], ["M. Orrel"]))
        self.assertEqual([mutagen.flac.FLAC(path).get("GENRE") for path in paths[9:]], [None, ["Polka"], ["Waltz"]])
        page.get_by_role("button", name="Undo").click()
        expect(page.locator("h1")).to_contain_text("Back: Tags of 12 files")
        expect(page.locator("#edited")).to_contain_text("12 files written", timeout=A_WHILE_MS)
        self.assertFalse(mutagen.flac.FLAC(paths[6]).tags)
        self.assertEqual(self.faults, [])


@slow
class FixityTests(FolderCase):
    own, alone = "fixity", True

    def test_one_flipped_bit_is_found(self) -> None:
        folder = self.instance.data / "demo" / "Masters"
        paths = [write_sound(folder / f"Master {number}.flac", seed=number) for number in range(1, 6)]
        page = self.page_with(folder, "done: 5")
        page.get_by_role("link", name="Fixity").click()
        page.get_by_role("button", name="Check now").click()
        expect(page.locator("#fixity")).to_contain_text("5 kept.", timeout=A_WHILE_MS)
        raw = bytearray(paths[3].read_bytes())
        raw[len(raw) // 2] ^= 1
        paths[3].write_bytes(raw)
        page.get_by_role("button", name="Check now").click()
        expect(page.locator("#fixity")).to_contain_text("4 unchanged, 1 sound changed.", timeout=A_WHILE_MS)
        expect(page.locator("#fixity tr", has_text="Master 4")).to_contain_text("Restore it from a copy")
        self.assertEqual(self.faults, [])
