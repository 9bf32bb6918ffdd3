"""What must hold whoever asks: methods, forgery, paths outside, wrong values, long lists."""

from pathlib import Path

from django.conf import settings
from django.test import Client
from django.urls import get_resolver, reverse

from rumbrel.core.forecast import WhenPresent
from rumbrel.core.targets import find_target
from rumbrel.web.batches import services as batches
from rumbrel.web.batches.models import Batch
from rumbrel.web.collection import services as collection
from rumbrel.web.collection.models import Pull, SourceFolder, Track
from rumbrel.web.discs.models import Disc
from rumbrel.web.playlists.models import Entry, Playlist
from tests.web.test_pages import WebCase

CHANGING = (
    "pull", "pull-all", "clear-pull", "undo-clear", "add-folder", "drop", "scan", "stop-scan", "start-batch",
    "cancel-batch", "resume-batch", "make-playlist", "reorder", "delete-playlist", "lay-out", "move-entry",
    "remove-entry", "change-disc", "write-disc", "stop-disc",
)  # fmt: skip


class SafetyTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.gather()
        self.pull_all()
        self.client.post(reverse("make-playlist"), {"name": "List"})
        self.client.post(reverse("lay-out", args=[Playlist.objects.get().pk]))
        self.batch = batches.start(collection.pulled_tracks(), find_target("archive-flac"), WhenPresent.SKIP)

    def _address(self, name: str) -> str:
        """Any address of that name, with the number of something that is there."""
        numbers = {
            "pull": Track, "scan": SourceFolder, "stop-scan": SourceFolder, "cancel-batch": Batch, "resume-batch": Batch,
            "reorder": Playlist, "delete-playlist": Playlist, "lay-out": Playlist, "move-entry": Entry,
            "remove-entry": Entry, "change-disc": Disc, "write-disc": Disc, "stop-disc": Disc,
        }  # fmt: skip
        return reverse(name, args=[numbers[name].objects.first().pk]) if name in numbers else reverse(name)

    def test_nothing_changes_by_looking_and_nothing_without_the_token(self) -> None:
        strict = Client(enforce_csrf_checks=True)
        for name in CHANGING:
            self.assertEqual(self.client.get(self._address(name)).status_code, 405, name)
            self.assertEqual(strict.post(self._address(name)).status_code, 403, name)
        names = {pattern.name for pattern in get_resolver().url_patterns}
        self.assertTrue(set(CHANGING) <= names)

    def test_other_hosts_and_frames_are_refused(self) -> None:
        self.assertEqual(self.client.get("/", headers={"host": "example.org"}).status_code, 400)
        response = self.client.get("/")
        self.assertEqual(response["X-Frame-Options"], "DENY")
        self.assertEqual(response["X-Content-Type-Options"], "nosniff")
        self.assertIn("frame-ancestors 'none'", response["Content-Security-Policy"])

    def test_what_is_not_there_is_said_without_a_trace(self) -> None:
        for name in ("track", "batch", "playlist", "disc", "download", "download-all"):
            response = self.client.get(reverse(name, args=[99_999]))
            self.assertEqual(response.status_code, 404, name)
            self.assertNotIn("Traceback", response.content.decode())

    def test_results_outside_their_place_are_never_sent(self) -> None:
        item = self.batch.items.first()
        secret = Path(settings.DATA) / "secret-key"
        link = Path(self.batch.place) / "link.flac"
        link.parent.mkdir(parents=True, exist_ok=True)
        link.symlink_to(secret)
        for output in (str(secret), "/etc/passwd", str(link), str(Path(self.batch.place) / ".." / ".." / "x")):
            self.batch.items.filter(pk=item.pk).update(state="done", output=output)
            self.assertEqual(self.client.get(reverse("download", args=[item.pk])).status_code, 404, output)
        disc = Disc.objects.get()
        Disc.objects.filter(pk=disc.pk).update(state="written", image_path="/etc/passwd")
        self.assertEqual(self.client.get(reverse("disc-image", args=[disc.pk, "bin"])).status_code, 404)

    def test_wrong_values_are_answered_in_words_or_left_alone(self) -> None:
        playlist, disc = Playlist.objects.get(), Disc.objects.get()
        self.client.post(reverse("reorder", args=[playlist.pk]), {"entry": ["²", "x", "-1", "99999"]})
        self.assertEqual(playlist.entries.count(), 3)
        for values in (
            {"medium": "moon"},
            {"medium": "80", "gap": "²", "speed": "٣"},
            {"medium": "80", "gap": "-1", "speed": "1e9"},
        ):
            response = self.client.post(reverse("change-disc", args=[disc.pk]), values, follow=True)
            self.assertEqual(response.status_code, 200, values)
        disc.refresh_from_db()
        self.assertEqual((disc.medium_key, disc.gap_seconds), ("80", 2))
        page = self.client.post(reverse("start-batch"), {"target": "nowhere"}, follow=True).content.decode()
        self.assertIn("There is no target", page)
        for query in ("?start=x", "?start=-5", "?rate=²&folder=²", "?order=drop", "?text=%00%27%22%3Cb%3E"):
            self.assertEqual(self.client.get("/" + query).status_code, 200, query)

    def test_a_long_pull_list_can_be_cleared_and_brought_back(self) -> None:
        folder = SourceFolder.objects.get()
        Track.objects.bulk_create(
            [Track(folder=folder, path=f"/x/{n}.wav", relative=f"{n}.wav", title=f"T{n}") for n in range(3_000)]
        )
        self.client.post(reverse("pull-all"))
        count = Pull.objects.count()
        self.assertGreater(count, 3_000)
        self.client.post(reverse("clear-pull"))
        self.client.post(reverse("undo-clear"))
        self.assertEqual(Pull.objects.count(), count)
        self.assertEqual(self.client.get(reverse("where")).status_code, 200)

    def test_playlists_are_moved_about_and_removed_without_touching_files(self) -> None:
        playlist = Playlist.objects.get()
        first, second, third = playlist.entries.all()
        self.client.post(reverse("move-entry", args=[first.pk]), {"way": "down"})
        self.client.post(reverse("move-entry", args=[third.pk]), {"way": "up"})
        self.client.post(reverse("move-entry", args=[second.pk]), {"way": "up"})
        self.assertEqual([e.pk for e in playlist.entries.all()], [second.pk, third.pk, first.pk])
        path = Path(third.track.path)
        self.client.post(reverse("remove-entry", args=[third.pk]))
        self.client.post(reverse("delete-playlist", args=[playlist.pk]))
        self.assertEqual(Playlist.objects.count(), 0)
        self.assertTrue(path.exists())
