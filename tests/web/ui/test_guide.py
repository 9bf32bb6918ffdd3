"""The guide as the application serves it, the tour of the demo, and the examples for who runs Rumbrel for others."""

import configparser
import re
import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

from django.conf import settings
from django.test import override_settings
from django.urls import get_resolver, reverse

from rumbrel.web.demo.models import Tour
from rumbrel.web.demo.tour import STEPS
from rumbrel.web.settings.ours import Rumbrel, read_environment
from rumbrel.web.ui.guide import guide_pages, page_of_screen, way_pages
from tests.web.case import WebCase

DOCS = Path(settings.BASE_DIR) / "docs"


class GuideTests(WebCase):
    def test_every_page_and_every_link_and_picture_of_it_is_there(self) -> None:
        pages = [*guide_pages(), *way_pages()]
        self.assertEqual((len(guide_pages()), len(way_pages())), (16, 10))
        self.assertEqual({path.stem for path in (DOCS / "guide").glob("*.md")}, {page.slug for page in guide_pages()})
        index = self.page(reverse("ui:guide"))
        seen: set[str] = set()
        for page in pages:
            self.assertIn(page.title.replace("&", "&amp;"), index)
            text = self.page(reverse("ui:guide-page", args=[page.slug]))
            self.assertNotRegex(page.html, r'\.md["#)]|<script|src="\.\.', page.slug)
            seen |= set(re.findall(r'(?:href|src)="(/guide/[^"#]*)', text))
            if page in way_pages():
                self.assertIn("<img", page.html, page.slug)
        for address in seen:
            self.assertEqual(self.client.get(address).status_code, 200, address)
        for address in ("/guide/pictures/..%2Fguide%2Fsee.md", "/guide/pictures/none.png", "/guide/secret-key/"):
            self.assertEqual(self.client.get(address).status_code, 404, address)

    def test_each_screen_leads_to_its_page(self) -> None:
        slugs = {page.slug for page in guide_pages()}
        for app in get_resolver().namespace_dict:
            if app not in ("ui", "demo"):
                self.assertIn(page_of_screen(f"{app}:index"), slugs, app)
        self.assertIn('href="/guide/discs/"', self.page(reverse("discs:index")))
        self.assertEqual((page_of_screen("collection:track"), page_of_screen("bench:volume")), ("listen", "volumes"))

    def test_the_tour_is_gone_through_or_left_and_never_shown_again(self) -> None:
        self.assertNotIn('id="tour"', self.page("/"))
        with override_settings(RUMBREL=replace(settings.RUMBREL, shows_tour=True)):
            self.assert_all_in((f"1 of {len(STEPS)}", STEPS[0].title, "Leave the tour"), self.page("/"))
            for step in STEPS[1:]:
                answer = self.client.post(reverse("demo:tour-next"), follow=True)
                self.assertIn(step.title, answer.content.decode())
                self.assertEqual(answer.request["PATH_INFO"], reverse(step.view))
            self.assertIn("Show me", self.page("/"), "elsewhere it leads back")
            self.client.post(reverse("demo:tour-next"))
            self.assertNotIn('id="tour"', self.page("/"))
            Tour.objects.all().delete()
            self.client.post(reverse("demo:tour-leave"), {"back": "/work/"})
            self.assertNotIn('id="tour"', self.page("/work/"))

    def test_nothing_gathered_asks_for_a_first_folder(self) -> None:
        self.assert_all_in(("Add your first source folder", reverse("collection:browse")), self.page("/"))


class ExampleTests(WebCase):
    """As far as this machine can tell: their variables are ours, their commands are there."""

    def test_the_unit_and_the_image_say_what_is_there(self) -> None:
        unit = configparser.RawConfigParser(strict=False, interpolation=None)
        unit.optionxform = str  # type: ignore[assignment,method-assign]
        text = (DOCS / "examples" / "rumbrel.service").read_text()
        unit.read_string(re.sub(r"^Environment=(\w+)=", r"\1=", text, flags=re.M))
        service = dict(unit["Service"])
        self.assertEqual(service["ExecStart"].split()[1], "start")
        ours = {name: value for name, value in service.items() if name.startswith("RUMBREL_")}
        found = read_environment(Path("/nowhere"), ours)
        self.assertTrue(found.has_accounts and found.behind_https)
        self.assertEqual(
            (found.hosts, found.log_form, str(found.data)), (("tower.example",), "json", "/var/lib/rumbrel")
        )
        self.assertIn(service["RUMBREL_DATA"], service["ReadWritePaths"])
        if shutil.which("systemd-analyze"):
            unit_file = Path(self.source, "rumbrel.service")
            unit_file.write_text(text.replace("/opt/rumbrel/run", str(Path(settings.BASE_DIR) / "run")))
            said = subprocess.run(["systemd-analyze", "verify", unit_file], capture_output=True, text=True)
            self.assertEqual((said.returncode, said.stderr), (0, ""))
        image = (DOCS / "examples" / "Containerfile").read_text()
        said = dict(pair.split("=") for pair in re.search(r"^ENV (.*)$", image, re.M)[1].split())  # type: ignore[index]
        self.assertTrue(read_environment(Path("/nowhere"), said).is_open)
        self.assertIn(reverse("jobs:health"), image)
        script = (Path(settings.BASE_DIR) / "run").read_text()
        for word in re.findall(r"\./run\"?,? ?\"?(\w+)", image + text):
            there = (f"{word})" in script) or any(
                Path(settings.BASE_DIR).glob(f"rumbrel/web/*/management/commands/{word}.py")
            )
            self.assertTrue(there, word)

    def test_readme_names_every_variable(self) -> None:
        source = (Path(settings.BASE_DIR) / "rumbrel" / "web" / "settings" / "ours.py").read_text()
        readme = (Path(settings.BASE_DIR) / "README.md").read_text()
        names = set(re.findall(r'"(RUMBREL_[A-Z_]+)"', source)) - {"RUMBREL_TOUR"}
        self.assertEqual({name for name in names if name not in readme}, set())
        self.assertTrue(Rumbrel.__doc__)
