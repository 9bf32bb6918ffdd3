"""A cue sheet of a gathered file laid out on the screen: that very disc, to the byte."""

import io
from pathlib import Path

import numpy as np
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.urls import reverse

from rumbrel.web.collection.models import Track
from rumbrel.web.discs.models import Disc
from rumbrel.web.playlists.models import Playlist
from tests.core.workflows.test_sheets import DESCRIBED, SECTOR, noise

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
        self.assertIn("Make its disc", self.page(reverse("collection:track", args=[self.whole.pk])))
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
        self.sheet(
            "".join(f"{line}\n" for line in (*DESCRIBED, 'FILE "b.wav" WAVE', "TRACK 05 AUDIO", "INDEX 01 00:00:00"))
        )
        self.assertIn("names b.wav, which is not in the collection", self.lay_out())
        self.assertEqual((Track.objects.count(), Playlist.objects.count(), Disc.objects.count()), (1, 0, 0))

    SEVERAL = (
        'TITLE "Both"', 'FILE "a.wav" WAVE', "TRACK 01 AUDIO", 'TITLE "One"', "INDEX 01 00:00:00",
        "TRACK 02 AUDIO", 'TITLE "Two"', "INDEX 00 00:24:00", 'FILE "b.wav" WAVE', "INDEX 01 00:00:00",
        "TRACK 03 AUDIO", "FLAGS PRE", 'TITLE "Three"', "INDEX 01 00:08:00", "POSTGAP 00:01:00",
        'FILE "c.wav" WAVE', "TRACK 04 AUDIO", 'TITLE "Four"', "PREGAP 00:00:30", "INDEX 00 00:00:00", "INDEX 01 00:02:00",
    )  # fmt: skip
    """The gap of track 2 at the end of the file before, two tracks in one file, silence behind and before, and a gap at
    the beginning of a file."""

    def several(self) -> str:
        for name, sectors, seed in (("b", 1_200, 10), ("c", 700, 11)):
            sound = np.frombuffer(noise(sectors, seed), "<i2").reshape(-1, 2)
            soundfile.write(self.path.with_name(f"{name}.wav"), sound, 44_100, subtype="PCM_16")
        text = "".join(f"{line}\n" for line in self.SEVERAL)
        self.sheet(text)
        self.scan()
        self.whole = Track.objects.get(relative__endswith="a.wav", cut_of=None)
        return text

    def written_as_by_command(self, disc: Disc) -> None:
        self.work()
        disc = self.write(self.in_tray(disc))
        self.assertTrue(disc.proved, disc.error)
        out = self.folder / "by command"
        call_command(
            "disc", "--out", str(out), "--name", "Both", str(self.path.with_suffix(".cue")), stdout=io.StringIO()
        )
        for suffix in (".bin", ".sub", ".cdt", ".digests"):
            one, two = Path(disc.image_path).with_suffix(suffix).read_bytes(), (out / f"Both{suffix}").read_bytes()
            self.assertEqual(one == two, True, suffix)
        bodies = [noise(sectors, seed) for sectors, seed in ((2_000, 9), (1_200, 10), (700, 11))]
        silence = bytes(SECTOR * (75 + 30))
        image = Path(disc.image_path).with_suffix(".bin").read_bytes()
        self.assertEqual(image == bodies[0] + bodies[1] + silence + bodies[2], True)

    def test_a_sheet_of_several_files_is_laid_out_from_any_of_them(self) -> None:
        self.several()
        page = self.page(reverse("collection:track", args=[Track.objects.get(relative__endswith="b.wav").pk]))
        self.assert_all_in(("Make its disc", "4 tracks in 3 files"), page)
        self.assertIn("on the list Both", self.lay_out())
        made = self.page(reverse("playlists:playlist", args=[Playlist.objects.get().pk]))
        self.assertIn("sheet-disc", made)
        self.written_as_by_command(Disc.objects.get())

    def test_an_imported_sheet_becomes_its_tracks_and_its_disc(self) -> None:
        text = self.several()
        upload = SimpleUploadedFile("both.cue", text.encode())
        page = self.client.post(reverse("playlists:bring"), {"file": upload}, follow=True).content.decode()
        self.assert_all_in(
            ("Make the sheet&#x27;s disc" if "&#x27;" in page else "Make the sheet's disc", "Three"), page
        )
        playlist = Playlist.objects.get()
        self.assertEqual(playlist.count, 4)
        values = {"sheet": "1", "seen": playlist.mark}
        self.client.post(reverse("discs:lay-out", args=[playlist.pk]), values)
        disc = Disc.objects.get()
        self.assertEqual(disc.playlist_id, playlist.pk)
        self.written_as_by_command(disc)
