"""Playlists: made, ordered at a cost that does not grow, removed without touching files."""

from pathlib import Path

from django.urls import reverse

from rumbrel.web.collection.models import SourceFolder, Track
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

    def test_a_move_changes_two_entries_and_no_more(self) -> None:
        entry = self.list.entries.all()[120]
        for way, to in (("up", 119), ("down", 120), ("down", 121)):
            with self.assertNumQueries(5):
                self.client.post(reverse("playlists:move", args=[entry.pk]), {"way": way})
            self.assertEqual(self.order().index(entry.track_id), to)
        self.assertEqual(sorted(self.order()), self.ids)

    def test_at_the_ends_nothing_moves(self) -> None:
        before = self.order()
        first, last = self.list.entries.first(), self.list.entries.last()
        self.client.post(reverse("playlists:move", args=[first.pk]), {"way": "up"})
        self.client.post(reverse("playlists:move", args=[last.pk]), {"way": "down"})
        self.client.post(reverse("playlists:move", args=[first.pk]), {"way": "sideways"})
        self.assertEqual(self.order(), before)

    def test_a_page_is_put_in_order_and_the_others_stay(self) -> None:
        entries = list(self.list.entries.values_list("pk", flat=True))
        page = entries[100:200]
        self.client.post(reverse("playlists:order", args=[self.list.pk]), {"entry": page[::-1]})
        now = list(self.list.entries.values_list("pk", flat=True))
        self.assertEqual(now, entries[:100] + page[::-1] + entries[200:])
        self.client.post(reverse("playlists:order", args=[self.list.pk]), {"entry": ["²", "x", "-1", "9" * 30, now[0]]})
        self.assertEqual(list(self.list.entries.values_list("pk", flat=True)), now)

    def test_entries_as_htmx_asks_for_them_stay_on_their_page(self) -> None:
        entry = self.list.entries.all()[130]
        response = self.client.post(
            reverse("playlists:move", args=[entry.pk]), {"way": "up", "page": "2"}, headers={"HX-Request": "true"}
        )
        text = response.content.decode()
        self.assertNotIn("<html", text)
        self.assert_all_in(('data-page="2"', "101 to 200 of 250", f'id="up-{entry.pk}"'), text)
        response = self.client.post(reverse("playlists:remove", args=[entry.pk]), headers={"HX-Request": "true"})
        self.assertIn("249 tracks, 41:30 in sum", response.content.decode())

    def test_lists_and_entries_go_and_tracks_stay(self) -> None:
        self.gather()
        path = Path(Track.objects.get(relative="notice 🔔.wav").path)
        entry = self.list.entries.first()
        page = self.client.post(reverse("playlists:remove", args=[entry.pk]), follow=True).content.decode()
        self.assert_all_in(("T000 left the list", "249 tracks"), page)
        self.client.post(reverse("playlists:delete", args=[self.list.pk]))
        self.assertEqual((Playlist.objects.count(), Track.objects.count()), (0, 253))
        self.client.post(reverse("playlists:restore", args=[self.list.pk]))
        self.assertEqual((Playlist.objects.get().count, Entry.objects.count()), (249, 249))
        self.assertTrue(path.exists())
