"""What holds after every press: the focus is on something in sight, a line of words says what came of it, and nothing
above what was pressed has moved."""

from contextlib import nullcontext
from dataclasses import dataclass

from playwright.sync_api import Locator, Page, expect

LARGEST_SHIFT = 0.02
"""The layout shift that a press may cause above itself, as the browser scores it (Layout Instability, W3C)."""
_WATCH = """() => {
  window.shifts = [];
  window.asked = 0;
  const ask = window.fetch;
  window.fetch = (...words) => {
    window.asked += 1;
    return ask(...words).finally(() => setTimeout(() => { window.asked -= 1; }));
  };
  new PerformanceObserver((list) => list.getEntries().forEach((entry) => window.shifts.push({
    value: entry.value, tops: entry.sources.map((source) => source.previousRect.height ? source.previousRect.top : Infinity),
    what: entry.sources.map((source) => source.node?.nodeName + "." + (source.node?.className ?? "")).join(" "),
  }))).observe({ type: "layout-shift" });
}"""
_BEFORE = """(part) => {
  window.shifts = [];
  window.pageOfPress = true;
  window.pressedId = part.id;
  return { top: part.getBoundingClientRect().top, text: document.querySelector("main").innerText, told: %s };
}"""
_TOLD = """['spoken', 'told', 'ended'].map((id) => document.getElementById(id)?.textContent).join() +
  [...document.querySelectorAll('[role=status], [role=alert], [aria-live]')].map((each) => each.textContent).join()"""
_AFTER = """() => {
  const part = document.activeElement;
  const box = part?.getBoundingClientRect();
  return {
    gone: Boolean(window.pressedId) && !document.getElementById(window.pressedId), here: window.pageOfPress === true, shifts: window.shifts ?? [],
    focus: part === document.body ? "" : `${part.tagName.toLowerCase()}#${part.id} ${part.textContent.trim().slice(0, 40)}`,
    inView: Boolean(box) && box.bottom > 0 && box.top < innerHeight && box.right > 0 && box.left < innerWidth,
    text: document.querySelector("main")?.innerText, told: %s,
  };
}"""
_WHERE = """(part) => part === document.activeElement ? "here"
  : part.closest("table[data-grid]")?.contains(document.activeElement) ? "in its table" : "elsewhere" """
_PLACE = """(target) => {
  const table = target.closest("table");
  if (!table.contains(document.activeElement)) return { down: 0, right: 0 };
  const rows = [...table.rows].filter((row) => row.checkVisibility());
  const here = document.activeElement;
  const stops = (row) => [...row.cells].filter((cell) => cell.checkVisibility()).flatMap((cell) => {
    const found = [...cell.querySelectorAll("a[href], button:not([disabled]), input:not([type=hidden]):not([disabled]), select:not([disabled]), summary")].filter((each) => each.checkVisibility());
    return found.length ? found : [cell];
  });
  const [from, to] = [here.closest("tr"), target.closest("tr")];
  return { down: rows.indexOf(to) - rows.indexOf(from), right: stops(to).indexOf(target) - stops(to).indexOf(here) };
}"""


_LEADS = """(part) => part.matches("a[href]:not([hx-get]):not([data-open]):not([href^='#'])")
  || (part.type === "submit" && !part.matches("form[hx-post] *, form[hx-get] *"))"""
_STEPS = "(part, label) => [...part.options].findIndex((each) => each.label === label) - part.selectedIndex"


@dataclass(frozen=True, slots=True)
class _Before:
    top: float
    text: str
    told: str


class Presses:
    """Presses by keys alone or by touch, on one page, with what was wrong after each."""

    def __init__(self, page: Page, way: str) -> None:
        self.page, self.way = page, way
        self.wrong: list[str] = []
        page.add_init_script(f"({_WATCH})()")

    def press(self, part: Locator, *, speaks: bool = True) -> None:
        """Press a part as the way has it; where the page stays, look at what came of it."""
        part = part.first
        part.wait_for()
        # What is measured meanwhile draws a part of the page anew.
        self.settle()
        name = f"{self.page.url}: {' '.join((part.text_content() or '').split())[:40] or part.get_attribute('id')}"
        if self.way == "keys":
            self.reach(part)
        else:
            part.evaluate("(each) => each.scrollIntoView({ block: 'center', behavior: 'instant' })")
        before = _Before(**part.evaluate(_BEFORE % _TOLD))
        with self.page.expect_navigation() if part.evaluate(_LEADS) else nullcontext():
            if self.way == "touch":
                part.tap()
            else:
                self.page.keyboard.press("Space" if part.evaluate("(each) => each.matches('input')") else "Enter")
        self.settle()
        self._look(name, before, speaks)

    def choose(self, part: Locator, label: str) -> None:
        """Choose in a list whose choice leads to a page at once."""
        with self.page.expect_navigation():
            if self.way == "touch":
                part.select_option(label=label)
            else:
                self.reach(part)
                steps = part.evaluate(_STEPS, label)
                for _ in range(abs(steps)):
                    self.page.keyboard.press("ArrowDown" if steps > 0 else "ArrowUp")
                self.page.keyboard.press("Enter")

    def settle(self) -> None:
        self.page.wait_for_load_state()
        self.page.wait_for_function("() => !window.asked")
        expect(self.page.locator(".htmx-request, .htmx-swapping, .htmx-settling, .htmx-added")).to_have_count(0)
        self.page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")

    def _look(self, name: str, before: _Before, speaks: bool) -> None:
        after = self.page.evaluate(_AFTER % _TOLD)
        if not after["here"] or after["text"] is None:
            return
        # Nothing is above what is there no longer: the rest of the page closes up.
        shifts = [] if after["gone"] else after["shifts"]
        moved = [shift for shift in shifts if any(top < before.top for top in shift["tops"])]
        if sum(shift["value"] for shift in moved) > LARGEST_SHIFT:
            self.wrong.append(f"{name}: moves what is above it: {[shift['what'] for shift in moved]}")
        if not after["focus"]:
            self.wrong.append(f"{name}: nothing has the focus")
        elif not after["inView"]:
            self.wrong.append(f"{name}: the focus is out of sight, on {after['focus']}")
        if speaks and after["text"] != before.text and after["told"] == before.told:
            self.wrong.append(f"{name}: nothing is said")

    def reach(self, part: Locator) -> None:
        """Come to a part by the tab key, and by the arrows where it lies in a table."""
        for _ in range(400):
            # Found anew each time: what is measured meanwhile may draw it anew.
            place = part.evaluate(_WHERE)
            if place == "here":
                return
            if place == "in its table":
                self._walk(part)
                return
            self.page.keyboard.press("Tab")
        raise AssertionError(f"{self.page.url}: the tab key does not come to {part}")

    def _walk(self, part: Locator) -> None:
        for way, back, forth in (("down", "ArrowUp", "ArrowDown"), ("right", "ArrowLeft", "ArrowRight")):
            for _ in range(300):
                steps = part.evaluate(_PLACE)[way]
                if not steps:
                    break
                self.page.keyboard.press(forth if steps > 0 else back)
