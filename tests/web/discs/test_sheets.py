"""A cue sheet of a gathered file laid out on the screen: that very disc, to the byte."""

import io
from pathlib import Path

import numpy as np
import soundfile
from django.core.management import call_command
from django.urls import reverse

from rumbrel.web.collection.models import Track
from rumbrel.web.discs.models import Disc
from rumbrel.web.playlists.models import Playlist
from tests.core.workflows.test_sheets import DESCRIBED, noise

from .test_discs import DiscCase


class SheetTests(DiscCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.source / "days" / "a.wav"
        self.path.parent.mkdir(parents=True)
        soundfile.write(self.path, np.frombuffer(noise(2_000, 9), "<i2").reshape(-1, 2), 44_100, subtype="PCM_16")
        self.sheet("".join(f"{line}\n" for line in DESCRIBED))
        self.scan()
        self.whole = Track.objects.get()

    def sheet(self, text: str) -> None:
        self.path.with_suffix(".cue").write_text(text)

    def lay_out(self, key: str = "sheet a.cue") -> str:
        address = reverse("discs:lay-out-sheet", args=[self.whole.pk])
        return self.client.post(address, {"key": key}, follow=True).content.decode()

    def test_it_is_written_as_the_command_writes_it(self) -> None:
        self.assertIn("Make this disc", self.page(reverse("collection:track", args=[self.whole.pk])))
        page = self.lay_out()
        self.assert_all_in(
            ("on the list Days", "1 s of sound before it", "0.6 s of sound before it", "0:01:10", "runs on"), page
        )
        self.work()
        disc = self.write(self.in_tray(Disc.objects.get()))
        self.assertTrue(disc.proved, disc.error)
        out = self.folder / "by command"
        words = ("--out", str(out), "--name", "Days", str(self.path.with_suffix(".cue")))
        call_command("disc", *words, stdout=io.StringIO())
        image = Path(disc.image_path)
        for suffix in (".bin", ".sub", ".cdt", ".digests"):
            self.assertEqual(
                image.with_suffix(suffix).read_bytes() == (out / f"Days{suffix}").read_bytes(), True, suffix
            )
        one, two = (
            [line for line in path.read_text().splitlines() if not line.startswith(("FILE", "CDTEXTFILE"))]
            for path in (image.with_suffix(".cue"), out / "Days.cue")
        )
        self.assertEqual(one, two)

    def in_tray(self, disc: Disc) -> Disc:
        self.client.post(reverse("discs:tray", args=[disc.pk, "put-in"]), {"shelf": "80"})
        return self.fresh(disc)

    def test_what_cannot_be_laid_out_leaves_nothing_behind(self) -> None:
        self.assertIn("no longer has such a cue sheet", self.lay_out("sheet b.cue"))
        self.sheet("".join(f"{line}\n" for line in DESCRIBED).replace("TRACK 03", "POSTGAP 00:01:00\nTRACK 03"))
        self.assertIn("silence behind tracks (POSTGAP)", self.lay_out())
        self.assertEqual((Track.objects.count(), Playlist.objects.count(), Disc.objects.count()), (1, 0, 0))
