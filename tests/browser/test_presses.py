"""Every kind of press that changes a part of a page: by keys alone, and by touch on a narrow screen."""

from collections import Counter

from playwright.sync_api import Page

from tests.marks import slow

from .case import BrowserCase
from .presses import Presses
from .test_crawl import AXE

_PAGES = (
    "/", "/?text=quarter", "/folders/", "/fixity/", "/playlists/1/", "/discs/1/", "/discs/2/", "/targets/car-mp3/",
    "/targets/car-mp3/edit/", "/batches/forecast/?target=car-mp3&when=number", "/tags/", "/bench/", "/compare/", "/work/",
)  # fmt: skip
_LARGEST = 60
# What a press can change of a page: what asks for a part of it, folds, switches, and what opens beside or over it.
_PARTS = """() => [...document.querySelectorAll("main :is(button, a[href], summary), .pull :is(button, summary), .head button")]
  .filter((each) => each.checkVisibility() && !each.disabled)
  .filter((each) => each.matches("summary, [hx-get], [hx-post], [data-open], [data-nav-switch], [data-preview-offer], [aria-pressed]")
    || each.type === "submit" && each.matches("form[hx-post] *, form[hx-get] *"))
  .map((each) => {
    const form = each.closest("form");
    const kind = [each.tagName, each.getAttribute("hx-get") ?? each.getAttribute("hx-post") ?? "", each.dataset.open ? "open" : "",
      form?.getAttribute("hx-post") ?? form?.getAttribute("hx-get") ?? "", each.name, each.id, each.tagName === "SUMMARY" ? each.textContent.trim() : ""].join(" ");
    each.dataset.kindOfPress = kind.replace(/\\d+/g, "N").replace(/[?]\\S*/g, " ").trim();
    return each.dataset.kindOfPress;
  })"""


_AFTER_PRESS = """async () => (await axe.run(document, {resultTypes: ["violations"], runOnly: [
  "scrollable-region-focusable", "aria-valid-attr-value", "aria-required-children", "button-name", "label", "link-name",
  "duplicate-id-aria", "nested-interactive"]})).violations.flatMap((rule) => rule.nodes.map((node) => `${rule.id}: ${node.html.slice(0, 160)}`))"""


class PressCase(BrowserCase):
    own = ""

    def press_all(self, page: Page, way: str) -> None:
        presses = Presses(page, way)
        pressed: Counter[str] = Counter()
        for address in _PAGES:
            done = set[str]()
            while len(done) < _LARGEST:
                if page.url != self.instance.address + address:
                    page.goto(self.instance.address + address)
                    presses.settle()
                kind = next((each for each in page.evaluate(_PARTS) if each not in done), None)
                if kind is None:
                    break
                done.add(kind)
                part = page.locator(f'[data-kind-of-press="{kind}"]')
                # Whether a fold is open is said of itself.
                folds = kind.startswith("SUMMARY") or part.first.get_attribute("aria-expanded") is not None
                presses.press(part, speaks=not folds)
                if way == "keys":
                    page.evaluate(AXE)
                    presses.wrong += [f"{address}, {kind}: {fault}" for fault in page.evaluate(_AFTER_PRESS)]
                page.keyboard.press("Escape")
            pressed[address] = len(done)
        self.assertGreater(sum(pressed.values()), 45, pressed)
        self.assertEqual(presses.wrong, [])
        self.assertEqual(self.faults, [])


@slow
class KeyTests(PressCase):
    def test_every_kind_of_press_by_keys(self) -> None:
        self.press_all(self.page(viewport={"width": 1280, "height": 800}, reduced_motion="reduce"), "keys")


@slow
class TouchTests(PressCase):
    def test_every_kind_of_press_by_touch(self) -> None:
        page = self.page(
            viewport={"width": 390, "height": 800}, has_touch=True, is_mobile=True, reduced_motion="reduce"
        )
        self.press_all(page, "touch")
