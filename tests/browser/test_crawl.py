"""Every page that links reach, with data and without, all folds open: in both themes and the user's own colours, wide
and narrow, by a checker of accessibility.

The checker is axe-core, from the npm registry, for tests only; its rules follow WCAG 2.2 A and AA and good practice.
"""

import re
from collections import Counter
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from playwright.sync_api import Page

from tests.marks import slow

from .case import BrowserCase

AXE = Path(__file__).with_name("axe.min.js").read_text()
# A link in a drawing has its address as a value that could move, not as text.
_LINKS = """[...document.querySelectorAll('a[href]')].map(
    (a) => a.href.baseVal === undefined ? a.href : new URL(a.href.baseVal, location).href)"""
_LARGEST_BYTES = 150_000
_OF_A_KIND = 1
"""Of pages that differ by numbers alone, so many are looked at; the links to the others are only followed."""
_MOST_OF_A_PATH = 8
"""Of addresses that carry several choices at once, of one page: there is no end of choices put together."""
_MOST_FOLLOWED = 12
"""Of a kind of these."""
_DOWNLOADS = ("/results/", "/download/", "/image/", "/tracks/export.", "/checksums/", "/toml/", "/report.", "/results.",
              "/archive/", "/sheet/", ".pdf", ".svg")  # fmt: skip
_RUN = """async () => (await axe.run(document, {resultTypes: ["violations"]})).violations.flatMap(
    (rule) => rule.nodes.map((node) => `${rule.id}: ${node.html.slice(0, 160)} (${node.failureSummary.slice(0, 200)})`))"""
_CONTRAST = """async () => (await axe.run(document, {runOnly: ["color-contrast"]})).violations.flatMap(
    (rule) => rule.nodes.map((node) => `${rule.id}: ${node.html.slice(0, 160)}`))"""
_UNFOLD = "() => document.querySelectorAll('main details').forEach((fold) => { fold.open = true; })"
_LOOKS: tuple[tuple[str, dict[str, Any]], ...] = (
    ("dark", {"color_scheme": "dark"}),
    ("the user's own colours", {"color_scheme": "light", "forced_colors": "active"}),
)
_WIDER = "document.documentElement.scrollWidth - document.documentElement.clientWidth"


def _kind(address: str) -> str:
    parts = urlsplit(address)
    names = sorted({part.split("=")[0] for part in parts.query.split("&")})
    path = re.sub(r"^/(targets|guide)/[^/]+/", r"/\1/NAME/", re.sub(r"\d+", "N", parts.path))
    return f"{path}?{'&'.join(names)}"


class CrawlCase(BrowserCase):
    def crawl(self) -> dict[str, str]:
        """Look at every page; returns their titles by their paths. What is wrong is collected and told at once."""
        page = self.page(viewport={"width": 1280, "height": 800}, color_scheme="light", reduced_motion="reduce")
        self.wrong: list[str] = []
        waiting, seen, kinds, titles, paths = ["/"], {"/"}, {}, {}, Counter[str]()
        while waiting:
            address = waiting.pop(0)
            kind = _kind(address)
            kinds[kind] = kinds.get(kind, 0) + 1
            path, several = kind.partition("?")[0], "&" in kind
            if several and kinds[kind] > _MOST_FOLLOWED:
                continue
            # With a choice in its address it is the same page once more: one of a kind is enough.
            enough = kinds[kind] > (1 if kind[-1] != "?" else _OF_A_KIND) or (
                several and paths[path] >= _MOST_OF_A_PATH
            )
            if enough or any(mark in address for mark in _DOWNLOADS):
                self._follow(page, address)
                continue
            paths[path] += several
            self._look(page, address, titles)
            links = page.evaluate(_LINKS)
            for link in links:
                self.assertTrue(link.startswith(self.instance.address), f"{address} leads out: {link}")
                target = link.removeprefix(self.instance.address).split("#")[0] or "/"
                if target not in seen:
                    seen.add(target)
                    waiting.append(target)
        if self.wrong:
            self.fail("\n".join(self.wrong))
        self.assertEqual(self.faults, [])
        return titles

    def _follow(self, page: Page, address: str) -> None:
        # Made while it is sent: the server knows no length of it, and its answer to HEAD is not one that all take.
        made = any(
            mark in address
            for mark in ("/download/", "/tracks/export.", "/checksums/", "/toml/", "/report.", "/results.", "/archive/")
        )
        ask = page.request.get if made else page.request.head
        # A kept connection may just have been closed for idleness while a page was looked at.
        answer = ask(self.instance.address + address, max_retries=2)
        if answer.status != 200 or (ask == page.request.head and answer.body()):
            self.wrong.append(f"{address}: {answer.status}")

    def _look(self, page: Page, address: str, titles: dict[str, str]) -> None:
        page.emulate_media(color_scheme="light", forced_colors="none")
        page.set_viewport_size({"width": 1280, "height": 800})
        answer = page.goto(self.instance.address + address)
        size = len(answer.body())
        if answer.status != 200 or size > _LARGEST_BYTES:
            self.wrong.append(f"{address}: {answer.status}, {size} bytes")
        path = urlsplit(address).path
        # How far the work in the background is may stand before it.
        title = re.sub(r"^\d+ % · ", "", page.title())
        if titles.get(path, title) != title or any(t == title and p != path for p, t in titles.items()):
            self.wrong.append(f"{address}: its title is another page's: {title}")
        titles[path] = title
        page.evaluate(_UNFOLD)
        page.evaluate(AXE)
        self.wrong += [f"{address}: {fault}" for fault in page.evaluate(_RUN)]
        for look, media in _LOOKS if self.command == "demo" else ():
            page.emulate_media(**media)
            self.wrong += [f"{address}, {look}: {fault}" for fault in page.evaluate(_CONTRAST)]
        for width in (1280, 640, 390):
            page.set_viewport_size({"width": width, "height": 800})
            if (over := page.evaluate(_WIDER)) > 0:
                self.wrong.append(f"{address}: {over} px too wide at {width}")


@slow
class DemoCrawlTests(CrawlCase):
    def test_every_page_with_data(self) -> None:
        titles = self.crawl()
        self.assertGreater(len(titles), 18)


@slow
class EmptyCrawlTests(CrawlCase):
    command = "serve"

    def test_every_page_without_data(self) -> None:
        titles = self.crawl()
        self.assertGreater(len(titles), 9)
