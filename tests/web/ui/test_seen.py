"""A press does what its page showed: each act that makes, starts or removes something, with a second hand between."""

import re
from collections.abc import Callable
from dataclasses import replace

from django.urls import reverse

from rumbrel.web.collection.models import DeepLook, SourceFolder, Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.collection.services import pull_tracks
from rumbrel.web.discs.models import Disc
from rumbrel.web.discs.services import change_disc
from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.services import add_tracks, make_playlist
from tests.signals import write_sound
from tests.web.discs.test_discs import DiscCase


def made() -> tuple[int, ...]:
    """What an act could have made, started or removed."""
    kinds = (Playlist, Disc, Job, Track, SourceFolder, DeepLook)
    return tuple(kind.objects.count() for kind in kinds)


class SeenTests(DiscCase):
    def setUp(self) -> None:
        super().setUp()
        self.gather()
        self.whole = list(Track.objects.filter(whole=True).order_by("relative").values_list("pk", flat=True))

    def mark(self, page: str, act: str) -> str:
        form = re.search(rf'<form [^>]*action="{re.escape(act)}"[^>]*>(.*?)</form>', page, re.DOTALL)
        return re.search(r'name="seen" value="([^"]+)"', form[1])[1]

    def assert_asked(self, shows: str, act: str, meanwhile: Callable[[], object], **values: object) -> None:
        """The act is refused once something else than its page showed is there, and done from the page as it is."""
        old = self.mark(self.page(shows), act)
        meanwhile()
        before = made()
        for seen in (old, "", "unreadable", f"{old}0"):
            answer = self.client.post(act, {**values, "seen": seen}, follow=True)
            self.assertContains(answer, "Nothing was done", msg_prefix=f"{act} {seen}")
            self.assertEqual(made(), before, act)
        answer = self.client.post(act, {**values, "seen": self.mark(self.page(shows), act)}, follow=True)
        self.assertNotContains(answer, "Nothing was done", msg_prefix=act)
        self.assertNotEqual(made(), before, act)

    def test_what_is_made_of_the_pull_list(self) -> None:
        lists, collection, fixity = (
            reverse(name) for name in ("playlists:index", "collection:index", "collection:fixity")
        )
        for shows, act, values in (
            (lists, "playlists:make", {"name": "Bells"}),
            (collection, "discs:from-pulled", {}),
            (collection, "collection:look-at-pulled", {}),
            (fixity, "collection:make-bag", {"name": "Bells"}),
            (reverse("batches:next"), "discs:from-pulled", {}),
        ):
            with self.subTest(act):
                self.client.post(reverse("collection:clear-pull"))
                pull_tracks(ids=self.whole[:1])
                self.assert_asked(shows, reverse(act), lambda: pull_tracks(ids=self.whole[1:]), **values)

    def test_as_many_others_are_not_the_same(self) -> None:
        pull_tracks(ids=self.whole[:1])
        act = reverse("discs:from-pulled")
        old = self.mark(self.page(reverse("collection:index")), act)
        self.client.post(reverse("collection:clear-pull"))
        pull_tracks(ids=self.whole[1:])
        self.assertEqual(len(pulled_ids()), 1)
        self.assertContains(
            self.client.post(act, {"seen": old}, follow=True), "tracks changed after the page was opened"
        )
        self.assertFalse(Disc.objects.exists())

    def test_a_disc_of_a_list_and_the_list_changed_in_its_own_window(self) -> None:
        playlist = make_playlist(name="Bells", track_ids=self.whole[:1])
        shows, act = reverse("playlists:playlist", args=[playlist.pk]), reverse("discs:lay-out", args=[playlist.pk])
        self.assert_asked(shows, act, lambda: add_tracks(playlist_id=playlist.pk, track_ids=self.whole[1:]))
        turned = self.client.post(
            reverse("playlists:act", args=[playlist.pk, "turn"]), headers={"HX-Request": "true"}
        ).content.decode()
        seen = re.search(r'id="list-seen" name="seen" value="([^"]+)" hx-swap-oob="true"', turned)[1]
        self.assertNotContains(self.client.post(act, {"seen": seen}, follow=True), "Nothing was done")

    def test_a_write(self) -> None:
        disc = self.disc()
        for act in ("write", "test"):
            with self.subTest(act):
                shows = reverse("discs:writing", args=[disc.pk])
                old = self.mark(self.page(shows), reverse("discs:write", args=[disc.pk]))
                change_disc(
                    disc_id=disc.pk,
                    change=lambda design: replace(design, gap_sectors=design.gap_sectors + 75),
                    said="gaps of 2 s",
                )
                before = made()
                answer = self.client.post(reverse(f"discs:{act}", args=[disc.pk]), {"seen": old}, follow=True)
                self.assertContains(answer, "Nothing was done: the disc changed after the page was opened")
                self.assertEqual(made(), before)

    def test_a_removal(self) -> None:
        folder = SourceFolder.objects.get()

        def more() -> None:
            write_sound(self.source / f"later {Track.objects.count()}.wav", 40_000)
            self.scan()

        def lose() -> None:
            next(self.source.glob("later*.wav")).unlink()
            self.scan()

        lost, gone = (
            (reverse(f"collection:{shows}", args=[folder.pk]), reverse(f"collection:{act}", args=[folder.pk]))
            for shows, act in (("missing", "remove-missing"), ("remove-folder", "folder-removed"))
        )
        more(), more()
        lose()
        self.assert_asked(*lost, lose)
        self.assert_asked(*gone, more)
        self.assertFalse(SourceFolder.objects.exists())
