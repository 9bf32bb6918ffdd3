"""Playlists: made, ordered at a cost that does not grow, removed without touching files."""

import re
from pathlib import Path

from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from rumbrel.core.targets import find_target
from rumbrel.web.batches.services import start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.playlists.models import Entry, Playlist
from rumbrel.web.playlists.services import make_playlist
from tests.web.case import WebCase


class PlaylistTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        folder = SourceFolder.objects.create(path="/made/up")
        tracks = [
            Track(folder=folder, path=f"/made/up/{n}", relative=f"{n}", title=f"T{n:03}", seconds=10)
            for n in range(250)
        ]
        self.ids = [track.pk for track in Track.objects.bulk_create(tracks)]
        self.list = make_playlist(name="List", track_ids=self.ids)

    def order(self) -> list[int]:
        return list(self.list.entries.values_list("track_id", flat=True))

    def test_made_of_the_pulled_tracks_in_their_order(self) -> None:
        self.pull_all()
        self.client.post(reverse("playlists:make"), {"name": "  Shop / disc "})
        made = Playlist.objects.first()
        self.assertEqual((made.name, made.count, made.seconds), ("Shop / disc", 250, 2_500))
        self.client.post(reverse("collection:clear-pull"))
        page = self.client.post(reverse("playlists:make"), {"name": "x" * 300}, follow=True).content.decode()
        self.assertIn("The pull list is empty", page)

    def test_its_ruler_ends_where_the_blank_does(self) -> None:
        address = reverse("playlists:playlist", args=[self.list.pk])
        page = self.page(address)
        self.assertEqual(page.count('class="is-even"') + page.count('class="is-odd"'), 250)
        self.assertIn("38:20 free", page)
        Track.objects.filter(pk__in=self.ids[:2]).update(seconds=2_410)
        long = make_playlist(name="Long", track_ids=self.ids[:2])
        page = self.page(reverse("playlists:playlist", args=[long.pk]))
        self.assertRegex(page, r'class="figure is-over-text">\s*0:20 over')
        self.assertEqual(page.count('class="is-over"'), 1, "the second alone passes the end")
        self.assertRegex(self.page(reverse("playlists:index")), r"0:20 over(.|\n)*38:20 free")

    def act(self, name: str, *entries: int, **values: object) -> str:
        """A change as the screen sends it; the list as it is then."""
        address = reverse("playlists:act", args=[self.list.pk, name])
        response = self.client.post(address, {"entry": entries, **values}, headers={"HX-Request": "true"})
        self.assertEqual(response.status_code, 200)
        return response.content.decode()

    def entries(self) -> list[int]:
        return list(self.list.entries.values_list("pk", flat=True))

    def test_rows_are_moved_together_taken_off_and_brought_back_in_few_queries(self) -> None:
        entries = self.entries()
        some = [entries[120], entries[3], entries[121]]
        with CaptureQueriesContext(connection) as queries:
            self.act("step", *some, way="top")
        self.assertLess(len(queries), 25, "however long the list is")
        self.assertEqual(
            self.entries(), [entries[3], entries[120], entries[121], *(e for e in entries if e not in some)]
        )
        self.act("move", *some, before=entries[200])
        self.assertEqual(self.entries().index(entries[200]), self.entries().index(entries[121]) + 1)
        page = self.act("remove", *some)
        self.assert_all_in(("247 tracks, 41:10 total", "3 tracks removed"), page)
        for _ in range(3):
            self.client.post(reverse("playlists:undo", args=[self.list.pk]))
        self.assertEqual((self.entries(), self.order()), (entries, self.ids))
        page = self.client.post(reverse("playlists:undo", args=[self.list.pk]), follow=True).content.decode()
        self.assertIn("There is nothing to undo", page)

    def test_at_the_ends_and_with_what_is_gone_nothing_moves(self) -> None:
        before = self.entries()
        self.act("step", before[0], way="up")
        self.act("step", before[-1], way="down")
        self.assertIn("Choose from what is offered", self.act("step", before[0], way="sideways"))
        self.assertIn("no longer on the list", self.act("move", before[0], 999_999))
        self.assertIn("No rows are selected", self.act("remove"))
        self.assertEqual(self.entries(), before)
        self.assertEqual(self.client.post(f"/playlists/{self.list.pk}/act/moon/").status_code, 404)

    def test_what_is_selected_stays_selected_and_a_shuffle_keeps_its_seed(self) -> None:
        entries = self.entries()
        page = self.act("step", entries[1], entries[2], way="down")
        self.assertEqual(set(re.findall(r'id="mark-(\d+)"[^>]* checked', page)), {str(entries[1]), str(entries[2])})
        page = self.act("move", entries[5], before=entries[0], marked="")
        self.assertNotIn(" checked", page)
        page = self.act("shuffle")
        seed = re.search(r'name="seed" value="(\d+)"', page)[1]  # type: ignore[index]
        order = self.entries()
        self.act("sort", order="title")
        page = self.act("shuffle", seed=seed)
        self.assertEqual(self.entries(), order)
        self.assertIn(f"shuffled with the seed {seed}", page)
        page = self.act("shuffle", seed=seed, fresh="1")
        self.assertNotIn(f'value="{seed}" maxlength', page)

    def test_two_windows_lose_nothing_and_the_later_one_is_told(self) -> None:
        entries = self.entries()
        self.act("remove", entries[0], revision=0)
        page = self.act("step", entries[9], way="top", revision=0)
        self.assertIn("Another window changed this list meanwhile (1 track removed). Nothing is lost", page)
        self.assertEqual(self.entries(), [entries[9], *entries[1:9], *entries[10:]])

    def test_a_page_says_when_each_entry_begins_and_what_lies_behind_it(self) -> None:
        page = self.page(reverse("playlists:playlist", args=[self.list.pk]), page=2)
        self.assert_all_in(("101 to 200 of 250", ">16:40<", ">33:10<", f'data-behind="{self.entries()[200]}"'), page)

    def test_what_is_found_is_put_on_the_list(self) -> None:
        self.gather()
        address = reverse("playlists:search", args=[self.list.pk])
        text = self.fragment(address, words="peal")
        self.assert_all_in(("peal &lt;b&gt;", "Add all 1"), text)
        self.assertIn("Nothing is found with these words", self.fragment(address, words="nowhere at all"))
        self.assertIn("source / a", self.fragment(address, words="", by="folder"))
        folder = SourceFolder.objects.get(path=str(self.source)).pk
        add = reverse("playlists:add", args=[self.list.pk])
        self.client.post(f"{add}?folder={folder}&directory=a/", {"what": "found"})
        peal = Track.objects.get(relative__contains="peal").pk
        self.assertEqual(self.order()[-1], peal)
        self.client.post(add, {"what": "tracks", "track": [peal, 999_999, self.ids[0]]})
        self.assertEqual(self.order()[-2:], [peal, self.ids[0]])
        page = self.client.post(add, {"what": "tracks", "track": "x"}, follow=True).content.decode()
        self.assertIn("There is no track to put on the list", page)
        self.client.post(reverse("playlists:pull", args=[self.list.pk]))
        self.assertEqual(pulled_ids(), [*self.ids, peal], "each once")

    def test_a_list_of_ten_thousand_is_changed_and_shown_at_once(self) -> None:
        folder = SourceFolder.objects.get(path="/made/up")
        more = [
            Track(folder=folder, path=f"/made/up/x{n}", relative=f"x{n}", title=f"X{n}", seconds=1)
            for n in range(9_750)
        ]
        ids = [track.pk for track in Track.objects.bulk_create(more)]
        self.list = make_playlist(name="Long", track_ids=[*self.ids, *ids])
        last = self.entries()[-1]
        with CaptureQueriesContext(connection) as queries:
            self.act("step", last, way="top")
        self.assertLess(len(queries), 25)
        self.assertEqual(self.entries()[0], last)
        self.assertEqual(len(set(self.entries())), 10_000)

    def test_lists_and_entries_go_and_tracks_stay(self) -> None:
        self.gather()
        path = Path(Track.objects.get(relative="notice 🔔.wav").path)
        self.act("remove", self.entries()[0])
        self.client.post(reverse("playlists:delete", args=[self.list.pk]))
        self.assertEqual((Playlist.objects.count(), Track.objects.count()), (0, 253))
        self.client.post(reverse("playlists:restore", args=[self.list.pk]))
        self.assertEqual((Playlist.objects.get().count, Entry.objects.count()), (249, 249))
        self.assertTrue(path.exists())


class BroughtTests(WebCase):
    """Lists that were made elsewhere."""

    def bring(self, text: str, name: str = "days.m3u8") -> str:
        file = SimpleUploadedFile(name, text.encode())
        return self.client.post(reverse("playlists:bring"), {"file": file}, follow=True).content.decode()

    def test_what_is_here_becomes_a_list_and_the_rest_is_told(self) -> None:
        self.gather()
        page = self.bring(
            f"#EXTM3U\n{self.source}/a/peal <b>.flac\nD:\\Music\\a\\peal <b>.flac\n#EXTINF:6,x\nother/notice 🔔.mp3\n"
            "gone/nowhere.mp3\nhttp://station.invalid/live\n"
        )
        self.assert_all_in(
            ("2 found, 1 found elsewhere, 2 missing", "gone/nowhere.mp3", "no such file is in the collection",
             "an address on the network", "notice 🔔.wav"), page
        )  # fmt: skip
        made = Playlist.objects.get()
        names = [entry.track.relative for entry in made.entries.select_related("track")]
        self.assertEqual((made.name, names), ("days", ["a/peal <b>.flac", "a/peal <b>.flac", "notice 🔔.wav"]))

    def test_what_is_no_list_or_not_here_is_said_and_makes_none(self) -> None:
        self.gather()
        for text, name, words in (
            ("a/b.mp3\n", "days.txt", "is not a list: choose one that ends in"),
            ("gone.mp3\n", "days.m3u", "Nothing of this list is in the collection"),
            ("", "days.m3u", "That file is empty"),
            ("[playlist]\n", "days.pls", "names no files"),
            ('FILE "x.flac" WAVE\nTRACK 01 AUDIO\nINDEX 01 00:00:00\nTRACK 02 AUDIO\nINDEX 01 01:00:00\n', "x.cue",
             "Nothing of this list is in the collection"),
            ("FILE nonsense", "x.cue", "cannot be read"),
        ):  # fmt: skip
            self.assertIn(words, self.bring(text, name), name)
        self.assertIn(
            "Choose the file of a list first",
            self.client.post(reverse("playlists:bring"), follow=True).content.decode(),
        )
        self.assertEqual(Playlist.objects.count(), 0)

    def test_a_list_goes_out_with_the_paths_of_here_or_of_a_device(self) -> None:
        self.gather()
        ids = list(Track.objects.order_by("-relative").values_list("pk", flat=True))
        listed = make_playlist(name="Days & nights", track_ids=ids)
        address = reverse("batches:export-list", args=[listed.pk])
        self.assertIn("of this server", self.page(address))
        here = self.client.get(address, {"kind": ".m3u8", "paths": "", "anyway": "on"})
        self.assertIn('filename="days-nights.m3u8"', here["Content-Disposition"])
        lines = [line for line in here.content.decode().splitlines() if line and not line.startswith("#")]
        self.assertEqual(
            set(lines), {str(self.source / name) for name in ("notice 🔔.wav", "a/peal <b>.flac", "empty.mp3")}
        )
        page = self.client.get(address, {"kind": ".m3u8", "paths": "car-mp3"}).content.decode()
        self.assert_all_in(("would be excluded", "empty"), page)
        car = self.client.get(address, {"kind": ".m3u8", "paths": "car-mp3", "anyway": "on"}).content.decode()
        batch = start_batch(track_ids=ids, wish=BatchWish(targets=(find_target("car-mp3"),)))
        self.work()
        root = Path(batch.destination)
        entries = [line for line in car.splitlines() if line and not line.startswith("#")]
        self.assertEqual(len(entries), 2)
        for entry in entries:
            self.assertTrue((root / entry).is_file(), f"{entry} is what the batch made")
