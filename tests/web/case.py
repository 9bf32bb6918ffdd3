"""What all tests of the web share: folders of their own, a small collection, and jobs carried out on the spot."""

import tempfile
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from django.conf import settings
from django.test import TestCase, override_settings

from rumbrel.web.collection.models import Track
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.collection.services import add_folder, pull_found
from rumbrel.web.collection.services.hear_track import end_listening
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import run_job
from tests.signals import write_sound


def plain_spaces(text: str) -> str:
    """A page's text with common spaces for those that keep a figure and its unit on one line."""
    return text.replace("&nbsp;", " ").replace("\N{NO-BREAK SPACE}", " ")


class WebCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name).resolve()
        self.source = self.folder / "source"
        self.source.mkdir()
        ours = replace(settings.RUMBREL, data=self.folder / "data", roots=(self.source,), shows_gallery=True)
        places = override_settings(RUMBREL=ours)
        places.enable()
        self.addCleanup(places.disable)
        self.addCleanup(end_listening)

    def work(self) -> list[Job]:
        """Carry out every waiting job, as the consumer would; returns them as they ended."""
        ids = list(Job.objects.filter(state=Job.State.WAITING).order_by("pk").values_list("pk", flat=True))
        for pk in ids:
            run_job(job_id=pk)
        return list(Job.objects.filter(pk__in=ids).order_by("pk"))

    def gather(self) -> None:
        """A small collection, scanned: a sound, a spoken one, an empty file, and one that is not sound."""
        write_sound(self.source / "a" / "peal <b>.flac", 250_000)
        write_sound(self.source / "notice 🔔.wav", 260_000, channels=1)
        (self.source / "empty.mp3").touch()
        (self.source / "readme.txt").write_text("not a track")
        self.scan()

    def scan(self) -> None:
        add_folder(path=str(self.source))
        self.work()

    def pull_all(self) -> list[int]:
        pull_found(sentence=Sentence())
        return list(Track.objects.order_by("relative").values_list("pk", flat=True))

    def page(self, address: str, **query: object) -> str:
        """The text of a page that must be there, units set off by common spaces."""
        response = self.client.get(address, query)
        self.assertEqual(response.status_code, 200, address)
        return plain_spaces(response.content.decode())

    def fragment(self, address: str, **query: object) -> str:
        """The text of a fragment, asked for as htmx asks."""
        response = self.client.get(address, query, headers={"HX-Request": "true"})
        self.assertEqual(response.status_code, 200, address)
        text = plain_spaces(response.content.decode())
        self.assertNotIn("<html", text, address)
        return text

    def assert_all_in(self, words: Iterable[str], text: str) -> None:
        for word in words:
            self.assertIn(word, text)
