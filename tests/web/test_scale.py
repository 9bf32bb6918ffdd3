"""With 100,000 tracks: every page and fragment in at most 25 queries and 150 KB; actions as well."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from unittest import mock

from django.contrib.staticfiles.handlers import StaticFilesHandler
from django.db import connection, connections
from django.test.testcases import LiveServerThread
from django.test.utils import CaptureQueriesContext
from django.urls import reverse
from django.utils import timezone
from playwright.sync_api import expect, sync_playwright

from rumbrel.core.targets import find_target
from rumbrel.web.batches.services import start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import _beyond, find_tracks, page_of, pulled_ids
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.collection.services import pull_found
from rumbrel.web.discs.services import lay_out_list
from rumbrel.web.playlists.services import make_playlist
from tests.browser.case import ARGUMENTS, CHROMIUM
from tests.marks import slow
from tests.scale import fill
from tests.web.case import WebCase

TRACKS = 100_000
MOST_QUERIES = 25
MOST_BYTES = 150_000


@slow
class ScaleTests(WebCase):
    @classmethod
    def setUpTestData(cls) -> None:
        fill(TRACKS)
        cls.folder_id = SourceFolder.objects.last().pk
        pull_found(sentence=Sentence(text="album 1", order="title"))
        cls.pulled = len(pulled_ids())
        cls.playlist = make_playlist(name="Long", track_ids=pulled_ids()[:10_000])
        cls.short = make_playlist(name="Disc", track_ids=pulled_ids()[:16])
        cls.disc = lay_out_list(playlist=cls.short)

    def assert_small(self, address: str, **query: object) -> str:
        with CaptureQueriesContext(connection) as queries:
            response = self.client.get(address, query)
        size = len(response.content)
        self.assertEqual(response.status_code, 200, address)
        self.assertLessEqual(len(queries), MOST_QUERIES, f"{address} {query}: {len(queries)} queries")
        self.assertLessEqual(size, MOST_BYTES, f"{address} {query}: {size} bytes")
        return response.content.decode()

    def test_the_collection_however_it_is_narrowed(self) -> None:
        self.assertGreater(self.pulled, 10_000)
        index, rows = reverse("collection:index"), reverse("collection:rows")
        self.assertIn("100,000 of 100,000 tracks", self.assert_small(index))
        middle = find_tracks(Sentence(order="length"))[50_000]
        for query in (
            {"format": "FLAC"}, {"rate": "96000", "order": "title"}, {"fault": "any"}, {"folder": str(self.folder_id)},
            {"text": "waltz"}, {"text": "perf", "order": "performer"}, {"text": "nothing at all"},
            {"order": "length", "after": middle.pk}, {"order": "size", "before": middle.pk},
        ):  # fmt: skip
            self.assert_small(rows, **query)
        self.assertIn("more than 10,000", self.assert_small(rows, text="perf"))
        self.assert_small(reverse("collection:panel", args=[middle.pk]))
        self.assert_small(reverse("collection:folders"))
        self.assert_small(reverse("collection:pull-strip"))

    def test_every_other_screen_with_more_than_ten_thousand_pulled(self) -> None:
        for name in ("targets:index", "batches:index", "playlists:index", "discs:index", "bench:index", "jobs:work"):
            self.assert_small(reverse(name))
        self.assert_small(reverse("targets:where"))
        self.assert_small(reverse("targets:where"), target="car-mp3", page="40")
        self.assertIn("100,000 tracks", self.assert_small(reverse("targets:where"), tracks="all"))
        self.assert_small(reverse("playlists:playlist", args=[self.playlist.pk]), page="50")
        self.assert_small(reverse("discs:disc", args=[self.disc.pk]))

    def test_the_collection_seen_in_other_ways(self) -> None:
        self.assertIn("100,000 tracks", self.assert_small(reverse("collection:overview")))
        for by in ("album", "performer"):
            self.assert_small(reverse("collection:groups"), by=by)
        self.assert_small(reverse("collection:rows"), kind="lossless", least_minutes="3", most_minutes="4")
        self.assert_small(reverse("collection:track", args=[Track.objects.last().pk]))
        self.assert_small(reverse("collection:fixity"))
        self.assert_small(reverse("tags:edits"))

    def test_actions_cost_the_same_however_long_the_lists_are(self) -> None:
        track, entry = Track.objects.last(), self.playlist.entries.all()[5_000]
        for address, values, status in (
            (reverse("collection:pull", args=[track.pk]), {}, 302),
            (reverse("playlists:act", args=[self.playlist.pk, "step"]), {"entry": entry.pk, "way": "up"}, 302),
            (reverse("playlists:act", args=[self.playlist.pk, "remove"]), {"entry": entry.pk}, 302),
            (reverse("collection:clear-pull"), {}, 302),
            (reverse("collection:undo-clear"), {}, 302),
            (reverse("collection:pull-all") + "?format=FLAC", {}, 302),
        ):
            with CaptureQueriesContext(connection) as queries:
                response = self.client.post(address, values)
            self.assertEqual(response.status_code, status, address)
            self.assertLessEqual(len(queries), MOST_QUERIES, address)

    def test_pages_are_walked_by_their_index(self) -> None:
        """A page from the middle reads the rows it shows, not those before it."""
        for order in ("folder", "title", "length", "size"):
            tracks = find_tracks(Sentence(order=order))
            here = page_of(tracks).later
            row = Track.objects.get(pk=here)
            plan = tracks.filter(_beyond([str(f) for f in tracks.query.order_by], row, backwards=False))[:100].explain()
            self.assertNotIn("TEMP B-TREE", plan, order)
            self.assertIn("USING INDEX", plan, order)

    def test_a_batch_of_ten_thousand(self) -> None:
        ids = pulled_ids()[:10_000]
        # Every other one cannot be made.
        Track.objects.filter(pk__in=ids[::2]).update(missing_since=timezone.now())
        batch = start_batch(track_ids=ids, wish=BatchWish(targets=(find_target("car-mp3"),)))
        with mock.patch("rumbrel.web.batches.services.run_batch._run"):
            self.work()
        self.assertEqual(batch.items.count(), 10_000)
        self.assertEqual(batch.items.filter(state="cannot").count(), 5_000)
        address = reverse("batches:batch", args=[batch.pk])
        self.assert_small(address)
        self.assert_small(address, page="70")
        self.assert_small(reverse("batches:progress", args=[batch.pk]), since=0, first=1, last=100)
        self.assert_small(reverse("batches:index"))

    @contextmanager
    def served(self) -> Iterator[str]:
        """The application with this test's own database, answering a browser."""
        shared = connections["default"]
        shared.inc_thread_sharing()
        server = LiveServerThread("127.0.0.1", StaticFilesHandler, connections_override={"default": shared})
        server.daemon = True
        server.start()
        server.is_ready.wait()
        try:
            yield f"http://127.0.0.1:{server.port}"
        finally:
            server.terminate()
            shared.dec_thread_sharing()

    def test_one_is_found_among_all_in_the_real_interface(self) -> None:
        track = Track.objects.order_by("pk")[77_777]
        words = f"{track.title} {track.relative.rpartition('/')[2].rpartition('.')[0]}"
        # A browser that is driven from here has a loop of events in this thread, which asks the database nothing.
        with mock.patch.dict(os.environ, {"DJANGO_ALLOW_ASYNC_UNSAFE": "1"}), self.served() as address:
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                faults: list[str] = []
                page.on("pageerror", lambda error: faults.append(str(error)))
                page.goto(address)
                expect(page.get_by_text("100,000 of 100,000 tracks")).to_be_visible()
                page.wait_for_load_state()
                page.keyboard.press("/")
                page.keyboard.type(words)
                expect(page.locator("tr[data-row]")).to_have_count(1)
                expect(page.locator("tr[data-row]")).to_contain_text(track.title)
                page.locator("#text").blur()
                for key in ("j", "p", "Enter"):
                    page.keyboard.press(key)
                expect(page.locator("#side h2").first).to_contain_text(track.title)
                browser.close()
        self.assertEqual(faults, [])
