"""The guide, followed literally in the demo, by keys alone and by touch: each label and each key that it names is on the
screen of its step."""

import re
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Page, expect

from tests.marks import slow

from .case import ROOT, BrowserCase
from .presses import Presses
from .test_walk import A_WHILE_MS

GUIDE = ROOT / "docs" / "guide"
_LABEL = re.compile(r"(?<![*\w])\*([^*\n]+)\*(?!\*)")
_KEY = re.compile(r"`([a-z0-9,.+/?-]|space|alt|Enter|Esc|Shift|Ctrl|D)`")
# What can be read: text, what fields and choices hold, and the names that reading aloud has for buttons and fields.
_READ = """() => {
  const said = [document.body.innerText];
  for (const part of document.querySelectorAll("a, button, input, select, textarea, summary, [aria-label]")) {
    if (!part.checkVisibility() || (part.closest("details:not([open])") && part.tagName !== "SUMMARY")) continue;
    said.push(part.getAttribute("aria-label") ?? "", part.placeholder ?? "");
    if (part.tagName === "SELECT") said.push(...[...part.options].map((option) => option.text));
    if (part.type === "submit" || part.type === "button") said.push(part.value ?? "");
  }
  return said.join("\\n").replace(/\\s+/g, " ");
}"""
_KEYS = (
    "() => [...document.querySelectorAll('kbd')].filter((each) => each.checkVisibility()).map((each) => each.innerText)"
)


class _Reader:
    """Follows a page of the guide, and keeps all that was to be read on the screens of a step."""

    def __init__(self, page: Page, address: str, way: str) -> None:
        self.page, self._address, self.presses = page, address, Presses(page, way)
        self.read, self.keys = "", set[str]()

    def look(self) -> None:
        self.read += "\n" + self.page.evaluate(_READ)
        self.keys |= set(self.page.evaluate(_KEYS))

    def go(self, path: str) -> None:
        self.page.goto(self._address + path)
        self.presses.settle()
        self.look()

    def press(self, name: str | re.Pattern[str], *, role: str = "button", within: str = "main") -> None:
        """Press what is called so, and look before and after."""
        self.look()
        self.presses.press(self.page.locator(within).get_by_role(role, name=name))  # type: ignore[arg-type]
        self.look()

    def click(self, part: str, *, until: str = "main") -> None:
        """Press a part, and look once another is there."""
        self.look()
        self.presses.press(self.page.locator(part))
        expect(self.page.locator(until).first).to_be_visible(timeout=A_WHILE_MS)
        self.look()

    def unfold(self) -> None:
        """Open what is folded, as one does who looks for something."""
        self.page.evaluate("document.querySelectorAll('details').forEach((each) => { each.open = true })")
        self.look()

    def choose(self, label: str, text: str) -> None:
        """In a sentence, whose choices take effect at once."""
        self.look()
        self.presses.choose(self.page.get_by_label(label, exact=True), text)
        self.look()


Step = Callable[[_Reader], object]


class GuideCase(BrowserCase):
    maxDiff = None
    way, context = "keys", dict[str, Any](viewport={"width": 1280, "height": 900})

    def setUp(self) -> None:
        super().setUp()
        self.reader = _Reader(self.page(**self.context), self.instance.address, self.way)

    def absent(self, text: str) -> list[str]:
        """What a text names and the screens did not show."""
        read = self.reader.read.lower()
        labels = [label for label in _LABEL.findall(" ".join(text.split())) if label.lower() not in read]
        return labels + [key for key in _KEY.findall(text) if key not in self.reader.keys]

    def pull(self, words: str, count: str = "") -> None:
        """These tracks on the pull list, and no others."""
        page = self.reader.page
        page.goto(f"{self.instance.address}/?text={words}")
        clear = page.get_by_role("button", name="Clear the pull list")
        if clear.is_visible():
            clear.click()
            page.goto(f"{self.instance.address}/?text={words}")
        page.get_by_role("button", name=re.compile("^Pull all")).click()
        expect(page.locator("#pull")).to_contain_text(count or "track")

    def linked(self, page: str, pattern: str) -> str:
        """The first address of a kind that a page leads to."""
        self.reader.go(page)
        links = self.reader.page.evaluate("[...document.querySelectorAll('main a')].map((a) => a.getAttribute('href'))")
        return next(link for link in links if re.fullmatch(pattern, str(link)))

    def track(self, words: str) -> str:
        """The address of the first track that words find."""
        page = self.reader.page
        page.goto(f"{self.instance.address}/?text={words}")
        return f"/tracks/{page.locator('tr[data-track]').first.get_attribute('data-track')}/"


@slow
class WalkThroughTests(GuideCase):
    def follow(self, name: str, *steps: Step) -> None:
        """Take the steps of a walk-through in their order, each with what it names on its screens."""
        [path] = (GUIDE / "ways").glob(f"{name}-*.md")
        told = re.split(r"^\d+\. ", path.read_text(), flags=re.MULTILINE)[1:]
        self.assertEqual(len(told), len(steps), path.name)
        missing = []
        for number, (text, step) in enumerate(zip(told, steps, strict=True), 1):
            self.reader.read, self.reader.keys = "", set()
            step(self.reader)
            missing += [f"step {number}: {each}" for each in self.absent(text.partition("\n\n")[0])]
        self.assertEqual(missing if self.way == "keys" else [], [], path.name)
        self.assertEqual(self.reader.presses.wrong, [])
        self.assertEqual(self.faults, [])

    def test_discs_to_a_stick(self) -> None:
        def put_in(r: _Reader) -> None:
            r.go("/bench/")
            r.click("[data-shelf=disc][data-key='demo:spots']", until="#put-in-clean")
            r.click("#put-in-clean", until="#taken")

        def take_in(r: _Reader) -> None:
            r.go("/bench/")
            r.press("Take in...", role="link")
            r.choose("Target", "USB stick for the car, MP3 320")

        def to_the_stick(r: _Reader) -> None:
            self.pull("quarter")
            r.look()
            r.unfold()
            r.press("Deliver...", role="link", within="#pull")
            r.press("Tour bus", role="link")

        self.follow(
            "way-01", put_in, take_in, lambda r: r.click("#take-in-act", until="#taken[data-state=done]"), to_the_stick,
            lambda r: r.click("#deliver-act", until="#delivery-act"),
            lambda r: (r.go("/bench/"), r.press("Tour bus", role="link")),
        )  # fmt: skip

    def test_an_archive_kept_in_sync(self) -> None:
        def forecast(r: _Reader) -> None:
            self.pull("quarter")
            r.look()
            r.press(re.compile("^Convert"), role="link", within="#pull")

        def batch(r: _Reader) -> None:
            r.press(re.compile("^Start batch"))
            expect(r.page.locator("#batch[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)

        self.follow(
            "way-02",
            lambda r: (r.go("/folders/?path=" + str(self.instance.data / "demo")), r.unfold()),
            forecast,
            lambda r: (
                r.choose("Target", "Mobile phone, AAC 192"),
                r.go("/batches/forecast/?target=pocket-aac&when=number"),
            ),
            batch,
            lambda r: (r.look(), r.go("/batches/")),
        )

    def test_prompts_for_a_telephone_line(self) -> None:
        def preview(r: _Reader) -> None:
            r.go("/batches/forecast/?target=phone-ulaw&when=number")
            r.press("Preview...", role="link")
            r.click("text=Make and listen", until="[data-compare]")

        self.follow(
            "way-03",
            lambda r: (self.pull("quarter"), r.look()),
            lambda r: (r.press(re.compile("^Convert"), role="link", within="#pull"), r.choose("Target", "Telephone line, mu-law")),
            preview,
            lambda r: (r.go("/batches/forecast/?target=phone-ulaw&when=number"), r.click("text=Start batch", until="#batch[data-state=done]")),
            lambda r: r.look(),
        )  # fmt: skip

    def test_the_sound_of_a_film(self) -> None:
        def start(r: _Reader) -> None:
            r.click("text=Start batch", until="#batch[data-state=done]")

        self.follow(
            "way-04",
            lambda r: r.go("/folders/"),
            lambda r: r.go(self.track("concert")),
            lambda r: (
                r.look(),
                self.pull("quarter"),
                r.look(),
                r.go("/batches/forecast/?target=average-mp3&when=number"),
            ),
            start,
        )

    def test_narration_for_a_course(self) -> None:
        self.follow(
            "way-05",
            lambda r: (r.go(self.track("concert")), self.pull("quarter"), r.unfold()),
            lambda r: r.go(self.track("concert")),
            lambda r: (self.pull("quarter"), r.unfold(), r.press("Edit tags...", role="link"), r.go("/tags/")),
            lambda r: (r.go("/"), r.go("/batches/forecast/?target=course&when=number")),
            lambda r: r.click("text=Start batch", until="#batch[data-state=done]"),
        )

    def test_a_delivery_to_a_specification(self) -> None:
        def made(r: _Reader) -> None:
            r.click("text=Start batch", until="#batch[data-state=done]")

        self.follow(
            "way-06",
            lambda r: (r.go("/targets/"), r.go("/targets/radio-mp3/")),
            lambda r: (
                self.pull("quarter"), r.go("/targets/radio-mp3/"), r.click("text=Check pulled files", until="#specification table"),
            ),
            lambda r: (r.go("/"), r.go("/batches/forecast/?target=radio-mp3&when=number"), made(r)),
            lambda r: r.look(),
        )  # fmt: skip

    def test_a_playlist_to_a_disc(self) -> None:
        def fit(r: _Reader) -> None:
            r.look()
            self.refreshed("#offers [name=offer][value=fewest]")
            r.look()
            self.refreshed("#disc-undo")
            r.look()

        def levelled(r: _Reader) -> None:
            r.press(re.compile(r"^Make a disc\.\.\."))
            r.page.get_by_label("Loudness", exact=True).select_option(label="tracks equal")
            expect(r.page.locator("#measuring[hx-get]")).to_have_count(0, timeout=A_WHILE_MS)
            r.look()

        self.follow(
            "way-07",
            lambda r: (self.pull("quarter"), r.unfold(), r.go("/playlists/"), r.press("Shop CD, everything", role="link")),
            levelled, fit, lambda r: (r.look(), r.unfold()),
            lambda r: r.press("Write", role="link"),
            lambda r: (r.page.go_back(), r.look(), r.press("Inlay", role="link")),
        )  # fmt: skip

    def refreshed(self, part: str) -> None:
        """Press what the disc's page is drawn anew after."""
        with self.reader.page.expect_response(
            lambda answer: "/discs/" in answer.url and answer.request.method == "POST"
        ):
            self.reader.presses.press(self.reader.page.locator(part))
        expect(self.reader.page.locator(".htmx-request")).to_have_count(0)

    def test_an_old_stick(self) -> None:
        self.follow(
            "way-08",
            lambda r: r.go("/bench/"),
            lambda r: r.press("Tour bus", role="link"),
            lambda r: r.look(),
            lambda r: r.click("#put-right", until="#delivery-act"),
        )

    def test_an_archive_that_is_unchanged(self) -> None:
        def check(r: _Reader) -> None:
            r.go("/folders/")
            r.press(re.compile("^Fixity"), role="link")
            r.press("Check now")
            r.go("/work/")
            expect(r.page.locator("#jobs:not([hx-get])")).to_be_visible(timeout=A_WHILE_MS)
            r.go("/fixity/")

        def changed(r: _Reader) -> None:
            [path] = self.instance.data.rglob("Polka, second transfer.mp3")
            data = bytearray(path.read_bytes())
            data[len(data) // 2] = (data[len(data) // 2] + 1) % 256
            path.write_bytes(data)
            check(r)

        self.follow("way-09", check, lambda r: r.go(self.track("tower")), changed, lambda r: r.unfold())

    def test_the_bitrate_that_is_enough(self) -> None:
        def make(r: _Reader) -> None:
            r.go(self.track("quarter"))
            r.press("Compare", role="link")
            r.unfold()
            r.page.get_by_label("Speech, small MP3").check()
            r.click("text=Make and listen", until="[data-compare]")

        def answer(r: _Reader) -> None:
            r.look()
            r.page.get_by_label("Trials").select_option("8")
            r.press("Begin")
            for number in range(1, 9):
                expect(r.page.locator("#trial")).to_contain_text(f"Trial {number} of 8")
                r.page.wait_for_load_state()
                r.presses.press(r.page.locator("[data-blind-hear=first]"), speaks=False)
                expect(r.page.locator("#answer")).to_be_enabled()
                r.look()
                r.presses.press(r.page.locator("#answer"))

        self.follow("way-10", make, lambda r: r.look(), answer, lambda r: r.look())


@slow
class WayByTouchTests(WalkThroughTests):
    """The same ways on a telephone. What is named is folded there in part, so it is not looked for."""

    way = "touch"
    context = dict[str, Any](viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)


@slow
class WholeReferenceTests(GuideCase):
    # Named so that it comes last: the walk-throughs leave a disc taken in, deliveries and comparisons behind.
    def test_each_page_names_what_is_on_its_screens(self) -> None:
        """In no order: the screens of a page, with all that is folded opened."""
        self.pull("quarter")
        track = self.track("concert")
        batch, disc, playlist, comparison = "/batches/1/", "/discs/1/", "/playlists/1/", "/compare/1/"
        self.reader.go("/bench/")
        self.reader.click("[data-shelf=disc][data-key='demo:nameless']", until="#put-in-early")
        self.reader.click("#put-in-early", until="#taken")
        put_in = self.reader.page.url.removeprefix(self.instance.address)
        screens = {
            "batch": (batch, "/targets/radio-mp3/", "/batches/", "/batches/1/originals/"),
            "compare": (track, batch, comparison, "/batches/forecast/?target=average-mp3&when=number"),
            "discs": (
                playlist,
                disc,
                "/discs/1/track/2/",
                "/discs/2/",
                "/discs/2/write/",
                "/discs/1/write/",
                "/bench/",
                track,
            ),
            "fixity": ("/folders/", "/fixity/"),
            "forecast": ("/batches/forecast/?target=average-mp3&when=number&way=mp3-constant-64",),
            "gather": ("/folders/", "/folders/?path=" + str(self.instance.data / "demo"), "/", "/overview/", track),
            "keys": ("/help/", "/"),
            "listen": ("/", track, "/overview/"),
            "operations": ("/help/", "/installation/", "/accounts/"),
            "playlists": ("/playlists/", playlist),
            "see": ("/", "/overview/", "/duplicates/", "/where/"),
            "tags": ("/tags/?tracks=2", "/tags/edits/"),
            "take-in": ("/bench/", self.linked("/bench/", r"/bench/taken/\d+/"), put_in),
            "targets": ("/targets/", "/targets/radio-mp3/", "/targets/radio-mp3/edit/"),
            "volumes": ("/bench/", "/bench/volume/1/"),
            "work": ("/work/",),
        }
        self.reader.go("/help/")
        signs = self.reader.page.locator(".keys tbody tr td:first-child").all_inner_texts()
        fields = self.reader.page.locator("[data-key-for]")
        listed = {*" ".join(signs).split(), *(field.input_value() for field in fields.all())}
        missing = []
        for page in sorted(GUIDE.glob("*.md")):
            self.reader.read, self.reader.keys = "", set()
            for address in screens[page.stem]:
                self.reader.go(address)
                self.reader.page.wait_for_load_state("networkidle")
                self.reader.unfold()
            # Keys are in force on rows and rulers, where no label shows them: Help lists them all.
            self.reader.keys |= listed
            missing += [f"{page.stem}: {each}" for each in self.absent(page.read_text())]
        self.assertEqual(missing, [])
        self.assertEqual(self.faults, [])
