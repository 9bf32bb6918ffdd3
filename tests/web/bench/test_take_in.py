"""Discs in drives: named, read with proof, kept where there is doubt, known again; what is called right is right."""

import json
import shutil
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from rumbrel.core.bench.drive import StandInDrive, drive_for
from rumbrel.core.bench.recorder import RECORDERS
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.reading import SectorUnread
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR
from rumbrel.core.disc.text import text_of
from rumbrel.core.inspection import inspect_file
from rumbrel.core.workflows.disc_sounds import programme_of
from rumbrel.core.workflows.take_in import read_track_file
from rumbrel.web.bench.models import DiscNames, Drive, TakeIn
from rumbrel.web.bench.services import discs_on_shelf, put_disc_in
from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import stop_job
from tests.signals import leftovers, write_sound
from tests.web.case import WebCase


class BenchCase(WebCase):
    def on_shelf(
        self, name: str, *seconds: float, condition: str = "clean", named: bool = True, hidden: float = 0
    ) -> Path:
        """A disc of that many tracks on the demo's shelf; its image. With hidden sound its tracks have pre-emphasis."""
        folder = settings.RUMBREL.shelf / "demo" / name
        parts = []
        for number, length in enumerate(seconds, 1):
            path = write_sound(self.folder / "made" / f"{name} {number}.wav", int(44_100 * length), seed=number)
            parts.append(programme_of(inspect_file(path), title=f"{name} {number}", performer="The Ringers"))
        before = None
        if hidden:
            before = programme_of(
                inspect_file(write_sound(self.folder / "made" / "hidden.wav", int(44_100 * hidden), seed=9))
            )
            parts = [replace(part, pre_emphasis=True) for part in parts]
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"), hidden=before)
        image = write_image(layout, folder, name, text=text_of(layout, title=f"The {name} disc"))
        if not named:
            text = image.cue_path.read_text().splitlines()
            image.cue_path.write_text(
                "\n".join(line for line in text if line.split()[0] not in ("CDTEXTFILE", "TITLE", "PERFORMER"))
            )
        kept = settings.RUMBREL.shelf / "demo" / "discs.json"
        said = json.loads(kept.read_text()) if kept.exists() else {}
        kept.write_text(json.dumps({**said, name: {"label": f"Disc {name}", "condition": condition}}))
        return image.bin_path

    def put_in(self, name: str, drive: str = "clean") -> TakeIn:
        self.client.post(reverse("bench:put-in", args=[drive]), {"disc": f"demo:{name}"})
        return TakeIn.objects.latest("pk")

    def shown(self, taken: TakeIn) -> str:
        return self.page(reverse("bench:taken", args=[taken.pk]))

    def press(self, name: str, taken: TakeIn, *more: int, **values: object) -> str:
        address = reverse(f"bench:{name}", args=[taken.pk, *more])
        return self.client.post(address, values, follow=True).content.decode()

    def work_all(self) -> None:
        """Take in, then the scan that follows."""
        for _ in range(3):
            self.work()


class TakeInTests(BenchCase):
    def test_read_twice_made_for_two_targets_and_found_in_the_collection(self) -> None:
        image = self.on_shelf("tower", 5, 6).read_bytes()
        taken = self.put_in("tower", "early")
        page = self.shown(taken)
        self.assert_all_in(("The tower disc", "tower 2", "The Ringers", "CD-Text", "Take in"), page)
        self.press("choose", taken, first="archive-flac", second="car-mp3", third="", names="CD-Text", begins="")
        self.press("start", taken)
        self.work_all()
        taken.refresh_from_db()
        self.assertEqual(taken.job.state, "done", taken.job.error)
        self.assertEqual({n: r["verdict"] for n, r in taken.readings.items()}, {"1": "passed", "2": "passed"})
        folder = settings.RUMBREL.results / "archive-flac" / "The tower disc"
        starts = (0, 5 * 75 + 150, len(image) // BYTES_PER_SECTOR)
        for number, path in enumerate(sorted(folder.glob("*.flac"))):
            sound, _ = soundfile.read(path, dtype="int16")
            truth = image[starts[number] * BYTES_PER_SECTOR : starts[number + 1] * BYTES_PER_SECTOR]
            self.assertEqual(sound.tobytes(), truth, path.name)
        self.assertEqual(len(list((settings.RUMBREL.results / "car-mp3" / "The tower disc").glob("*.mp3"))), 2)
        found = Track.objects.filter(album="The tower disc")
        self.assertEqual(
            sorted(found.values_list("title", "performer")), [("tower 1", "The Ringers"), ("tower 2", "The Ringers")]
        )
        log = json.loads((folder / "The tower disc.log.json").read_text())
        self.assertEqual([track["verdict"] for track in log["tracks"]], ["passed", "passed"])
        self.assertIn('FILE "02 tower 2.flac" WAVE', (folder / "The tower disc.cue").read_text())
        self.assert_all_in(("read twice, the same", "taken in", str(folder)), self.shown(taken))
        self.assertFalse((settings.RUMBREL.reading / str(taken.pk)).exists(), "what was made is not kept twice")
        self.assertEqual(leftovers(self.folder), [])
        again = self.put_in("tower", "clean")
        self.press("start", again)
        self.work_all()
        page = self.shown(again)
        self.assertEqual(page.count("the same as before"), 2)
        self.assertEqual(Track.objects.filter(album="The tower disc").count(), 2, "known again, not doubled")

    def test_hidden_sound_and_pre_emphasis_are_asked_for_on_the_screen(self) -> None:
        self.on_shelf("plain", 5)
        self.assertNotIn("sound before track 1", self.shown(self.put_in("plain", "early")))
        image = self.on_shelf("shy", 5, 6, hidden=7).read_bytes()
        taken = self.put_in("shy")
        self.assertIn("sound before track 1", self.shown(taken))
        page = self.press("choose", taken, first="archive-flac", begins="", hidden="on", emphasis="on")
        self.assert_all_in(("Before track 1", "3 of 3 tracks", "taken out of the sound"), page)
        taken.refresh_from_db()
        fields = {f"title-{n}": t["title"] for n, t in enumerate(taken.names["tracks"])} | {"title-0": "Rolls"}
        self.press("start", taken, title="Shy", **fields, **{f"take-{n}": "on" for n in range(3)})
        self.work_all()
        taken.refresh_from_db()
        self.assertEqual(taken.job.state, "done", taken.job.error)
        folder = Path(taken.folder)
        self.assertEqual(sorted(path.stem for path in folder.glob("*.flac")), ["00 Rolls", "01 shy 1", "02 shy 2"])
        hidden, _ = soundfile.read(next(folder.glob("00*.flac")), dtype="int16")
        # It has the flag of track 1, so it is heard without its emphasis as well.
        self.assertEqual(len(hidden), 7 * 44_100)
        first, _ = soundfile.read(next(folder.glob("01*.flac")), dtype="int16")
        truth = np.frombuffer(image[7 * 75 * BYTES_PER_SECTOR :][: first.nbytes], "<i2").reshape(-1, 2)
        self.assertLess(
            np.abs(np.diff(first, axis=0)).mean(), 0.8 * np.abs(np.diff(truth, axis=0)).mean(), "less treble"
        )
        log = json.loads((folder / "Shy.log.json").read_text())
        self.assertEqual([track["emphasis_taken_out"] for track in log["tracks"]], [True] * 3)
        self.assertEqual(len(DiscNames.objects.get().names["tracks"]), 2, "remembered as the disc has them")
        self.assertIn("Some of it has been read already" if not taken.results else "made already",
                      self.press("choose", taken, first="archive-flac", begins="", hidden="", emphasis=""))  # fmt: skip
        # The same disc once more, without its hidden sound: the first record stays, and what is equal is kept once. What
        # another hand altered is not taken for equal.
        write_sound(folder / "02 shy 2.flac", 40 * 588)
        first = {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()}
        again = self.put_in("shy")
        self.press("choose", again, first="archive-flac", begins="", hidden="", emphasis="on")
        fields = {f"title-{n}": f"shy {n}" for n in (1, 2)} | {f"take-{n}": "on" for n in (1, 2)}
        self.press("start", again, title="Shy", **fields)
        self.work_all()
        again.refresh_from_db()
        self.assertEqual(again.job.state, "done", again.job.error)
        now = {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()}
        self.assertEqual({name: now.get(name) for name in first}, first)
        self.assertEqual(sorted(now.keys() - first.keys()), ["02 shy 2 (2).flac", "Shy (2).cue", "Shy (2).log.json"])
        sheet = now["Shy (2).cue"].decode()
        self.assertIn('FILE "01 shy 1.flac" WAVE', sheet)
        self.assertIn("PREGAP", sheet, "its hidden sound was not taken in this time")
        self.assertIn("INDEX 00 00:00:00", now["Shy.cue"].decode())

    def test_a_doubtful_track_is_kept_only_when_the_user_says_so(self) -> None:
        image = self.on_shelf("spots", 40, 40, condition="broken").read_bytes()
        taken = self.put_in("spots")
        self.press("start", taken)
        self.work_all()
        taken.refresh_from_db()
        truth = StandInDrive(discs_on_shelf()[0].path, drive_for("broken")).faults
        starts = [track["start_sector"] for track in taken.contents["tracks"]]
        for number, start in enumerate(starts, 1):
            record = taken.readings[str(number)]
            end = start + record["sectors"]
            dead = sorted(
                sector - start for sector, fault in truth.items() if fault == "dead" and start <= sector < end
            )
            self.assertEqual(record["failed_at"], dead, "named sector by sector")
            wrong = [sector for sector in truth if start <= sector < end]
            self.assertEqual(record["verdict"] == "passed", not wrong)
        waiting = [int(n) for n, record in taken.readings.items() if record["verdict"] != "passed"]
        self.assertTrue(waiting)
        self.assertEqual(sorted(map(int, taken.results)), sorted({1, 2} - set(waiting)))
        page = self.shown(taken)
        self.assert_all_in((">Listen</button>", "Accept as read", "silence stands there", "mark-failed"), page)
        number = waiting[0]
        heard = b"".join(self.client.get(reverse("bench:heard", args=[taken.pk, number])).streaming_content)
        start, record = starts[number - 1], taken.readings[str(number)]
        sound = np.frombuffer(heard[44:], dtype="<i2")
        sectors = np.frombuffer(image[start * BYTES_PER_SECTOR :], dtype="<i2")[: len(sound)].reshape(-1, 1_176)
        differing = np.flatnonzero((sound.reshape(-1, 1_176) != sectors).any(axis=1))
        self.assertLessEqual(set(differing), set(record["failed_at"]), "nothing else is wrong")
        self.press("keep", taken, number)
        self.work_all()
        taken.refresh_from_db()
        self.assertIn(str(number), taken.results)
        self.assertTrue(Path(taken.results[str(number)]["archive-flac"]).is_file())
        self.assertEqual(self.client.get(reverse("bench:heard", args=[taken.pk, number])).status_code, 404)
        self.assertIn("has not been read yet", self.press("keep", taken, 77))

    def test_stopped_it_goes_on_where_it_was(self) -> None:
        self.on_shelf("tower", 5, 5, 5)
        taken = self.put_in("tower")
        self.press("start", taken)
        read: list[int] = []

        def reading(contents, drive, position, path, *rest, **more):  # type: ignore[no-untyped-def]
            read.append(position)
            if len(read) == 2:
                stop_job(job=Job.objects.get(kind="take-in"))
            return read_track_file(contents, drive, position, path, *rest, **more)

        with mock.patch("rumbrel.web.bench.services.take_in_disc.read_track_file", reading):
            with mock.patch("rumbrel.web.jobs.services.run_job.SECONDS_BETWEEN_NOTES", 0):
                self.work()
            taken.refresh_from_db()
            self.assertEqual((taken.job.state, list(taken.readings), taken.results), ("stopped", ["1"], {}))
            self.assertIn("reading continues from there", self.shown(taken))
            self.press("start", taken)
            self.work_all()
        taken.refresh_from_db()
        self.assertEqual((sorted(taken.readings), sorted(taken.results)), (["1", "2", "3"], ["1", "2", "3"]))
        self.assertEqual(read, [0, 1, 1, 2], "the first is not read twice")


class NamesTests(BenchCase):
    def test_names_are_offered_edited_and_remembered_for_the_disc(self) -> None:
        self.on_shelf("plain", 5, 6, named=False)
        taken = self.put_in("plain")
        self.assertIn("Track 02", self.shown(taken))
        names = {"title": "Bells & <b>", "performer": "A. Venning", "title-1": "Rounds", "performer-1": "", "take-1": "on",
                 "title-2": "Stand", "performer-2": "T. Vaerle", "only": "names"}  # fmt: skip
        page = self.press("start", taken, **names)
        self.assert_all_in(("Bells &amp; &lt;b&gt;", "as you named it", "1 of 2 tracks"), page)
        self.client.post(reverse("bench:take-out", args=["clean"]))
        self.assertEqual((TakeIn.objects.count(), Drive.objects.get().disc_key), (0, ""))
        again = self.put_in("plain")
        self.assertEqual((again.names["tracks"][1]["title"], again.names_from), ("Stand", "as you named it"))
        self.press("choose", again, first="archive-flac", names="nothing", begins="")
        again.refresh_from_db()
        self.assertEqual(again.names["tracks"][1]["title"], "Track 02")
        self.assertEqual(DiscNames.objects.get().names["title"], "Bells & <b>", "they are there still")
        page = self.press("start", again, **{name: value for name, value in names.items() if name != "take-1"})
        self.assertIn("Choose at least one track", page)

    def test_another_disc_of_the_same_track_lengths_is_not_taken_for_it(self) -> None:
        """By its sound, whatever the drive's offset; where the sound cannot be read twice alike, it stays in doubt."""
        image = self.on_shelf("plain", 5, 6, named=False)
        taken = self.put_in("plain")
        names = {"title": "Rounds", "title-1": "One", "title-2": "Two", "take-1": "on", "take-2": "on"}
        self.press("start", taken, **names)
        self.work_all()
        other = settings.RUMBREL.shelf / "demo" / "other"
        shutil.copytree(image.parent, other)
        sound = np.frombuffer(image.read_bytes(), "<i2")
        (other / image.name).write_bytes((-np.maximum(sound, -32_767)).astype("<i2").tobytes())
        later = self.put_in("other")
        self.assertEqual((later.digest, later.names_from), (taken.digest, "nothing"))
        self.assertNotIn("same disc", self.shown(later))
        self.assertNotIn("these track lengths", self.shown(later))
        for drive in ("clean", "early", "offset"):
            again = self.put_in("plain", drive)
            self.assertEqual((again.names_from, again.names["title"]), ("as you named it", "Rounds"), drive)
        self.assertIn("The same disc was", self.shown(again))
        with mock.patch.object(StandInDrive, "read_sectors", side_effect=SectorUnread("no")):
            doubted = self.put_in("other")
        self.assertEqual(doubted.names_from, "as you named a disc with these track lengths")
        self.assertIn("with these track lengths, perhaps this one,", self.shown(doubted))

    def test_discs_to_practise_with_are_there_on_any_installation(self) -> None:
        self.assertIn("Add practice discs", self.page(reverse("bench:index")))
        self.client.post(reverse("bench:practice"))
        (job,) = self.work()
        self.assertEqual(job.state, "done", job.error)
        page = self.page(reverse("bench:index"))
        self.assertNotIn("Add practice discs", page)
        keys = {disc.key: disc.condition for disc in discs_on_shelf()}
        self.assertEqual(
            keys,
            {"practice:emphasis": "clean", "practice:hidden": "clean", "practice:nameless": "clean",
             "practice:scratched": "scratched", "practice:spots": "broken"},
        )  # fmt: skip
        self.client.post(reverse("bench:put-in", args=["clean"]), {"disc": "practice:hidden"})
        taken = TakeIn.objects.latest("pk")
        self.assert_all_in(("sound before track 1", "Round 1"), self.shown(taken))
        self.client.post(reverse("bench:put-in", args=["offset"]), {"disc": "practice:spots"})
        taken = TakeIn.objects.latest("pk")
        self.press("start", taken)
        self.work_all()
        taken.refresh_from_db()
        self.assertIn("failed", {reading["verdict"] for reading in taken.readings.values()})
        self.client.post(reverse("bench:put-in", args=["early"]), {"disc": "practice:emphasis"})
        self.assertIn("pre-emphasis", self.shown(TakeIn.objects.latest("pk")))

    def test_a_pile_begins_as_each_disc_is_put_in(self) -> None:
        self.on_shelf("one", 5)
        self.on_shelf("two", 6)
        taken = self.put_in("one")
        self.press("choose", taken, first="archive-flac", begins="once", names="CD-Text")
        self.assertIsNone(TakeIn.objects.get().job)
        first = self.put_in("two")
        self.assertEqual(first.job.state, "waiting")
        page = self.client.post(
            reverse("bench:put-in", args=["clean"]), {"disc": "demo:one"}, follow=True
        ).content.decode()
        self.assertIn("The drive is reading The two disc", page)
        self.work_all()
        second = self.put_in("one")
        self.work_all()
        for each in (first, second):
            each.refresh_from_db()
            self.assertEqual(sorted(each.results), ["1"])
        self.assertEqual([each.in_drive for each in (first, second)], [False, True])
        self.assert_all_in(("The two disc", "1 of 1"), self.page(reverse("bench:index")))

    def test_a_disc_that_was_taken_out_or_is_none_is_said(self) -> None:
        image = self.on_shelf("tower", 5, 5)
        taken = self.put_in("tower")
        self.press("start", taken)
        shutil.rmtree(image.parent)
        self.work()
        self.assertIn("no longer on the shelf", self.shown(taken))
        iso = settings.RUMBREL.shelf / "demo" / "data" / "Data.iso"
        iso.parent.mkdir()
        iso.write_bytes(bytes(4_096))
        page = self.client.post(
            reverse("bench:put-in", args=["clean"]), {"disc": "demo:data"}, follow=True
        ).content.decode()
        self.assertIn("This is a data disc", page)
        self.assertEqual(
            self.client.post(reverse("bench:put-in", args=["moon"]), {"disc": "demo:data"}).status_code, 302
        )

    def test_an_image_of_ones_own_goes_onto_the_shelf_whole_or_not_at_all(self) -> None:
        image = self.on_shelf("tower", 5)

        def drop(*files: tuple[str, bytes]) -> str:
            sent = [SimpleUploadedFile(name, data) for name, data in files]
            return self.client.post(reverse("bench:drop"), {"files": sent}, follow=True).content.decode()

        cue = image.with_suffix(".cue").read_bytes().replace(b'CDTEXTFILE "tower.cdt"\n', b"")
        self.assertIn("lies on the shelf now", drop(("My disc.cue", cue), ("tower.bin", image.read_bytes())))
        self.assertEqual([disc.label for disc in discs_on_shelf() if disc.key.startswith("own:")], ["My disc"])
        taken = put_disc_in(drive="clean", disc_key="own:My disc")
        self.assertEqual(len(taken.contents["tracks"]), 1)
        for files, words in (
            ([], "Choose the files of an image"),
            ([("x.bin", b"1")], "Choose one cue sheet"),
            ([("x.cue", cue), ("y.exe", b"1")], "An image is made of files"),
            ([("x.cue", cue)], "tower.bin is not there, though x.cue names it"),
            ([("x.cue", cue), ("tower.bin", b"123")], "cut short"),
            ([("x.cue", b'FILE "../../secret" BINARY'), ("tower.bin", b"123")], "does not lie beside"),
        ):
            self.assertIn(words, drop(*files), files and files[0][0])
        self.assertEqual(len([disc for disc in discs_on_shelf() if disc.key.startswith("own:")]), 1)

    def test_an_image_in_other_files_is_made_into_one_first(self) -> None:
        """A WAV for each track in a folder of its own, as we write them, comes without the folder and is that disc."""
        image = self.on_shelf("tower", 5, 6)
        layout = lay_out(
            [programme_of(inspect_file(path)) for path in sorted((self.folder / "made").glob("tower*.wav"))],
            gap_sectors=150, medium=medium_for("80"),
        )  # fmt: skip
        for form in ("wav", "flac"):
            made = write_image(layout, self.folder / form, "again", image_format=form)
            files = [made.cue_path, *(sorted(made.bin_path.iterdir()) if form == "wav" else [made.bin_path])]
            sent = [SimpleUploadedFile(path.name, path.read_bytes()) for path in files]
            answer = self.client.post(reverse("bench:drop"), {"files": sent}, follow=True).content.decode()
            self.assertIn("lies on the shelf when that is done", answer)
            (job,) = self.work()
            self.assertEqual(job.state, "done", job.error)
        for name in ("again", "again 2"):
            (made_bin,) = (settings.RUMBREL.shelf / "own" / name).glob("*.bin")
            self.assertEqual(made_bin.read_bytes(), image.read_bytes())
        self.assertEqual(list((settings.RUMBREL.shelf / "incoming").iterdir()), [])
        broken = [
            SimpleUploadedFile("b.cue", b'FILE "b.wav" WAVE\nTRACK 01 AUDIO\nINDEX 01 00:00:00'),
            SimpleUploadedFile("b.wav", b"no sound"),
        ]
        self.client.post(reverse("bench:drop"), {"files": broken})
        (job,) = self.work()
        self.assertEqual(job.state, "failed")
        self.assertIn("b.wav", job.error)
        self.assertEqual(list((settings.RUMBREL.shelf / "incoming").iterdir()), [])

    def test_things_are_put_together_on_the_bench(self) -> None:
        """A disc into the player, which plays it or says why not; a blank into a recorder."""
        self.on_shelf("tower", 5, 6)
        data = settings.RUMBREL.shelf / "demo" / "data"
        data.mkdir(parents=True)
        (data / "Data.iso").write_bytes(b"x")
        player, index = reverse("bench:player"), reverse("bench:index")
        self.assertIn("The player is empty", self.page(player))
        self.client.post(reverse("bench:player-in"), {"disc": "demo:tower"})
        self.assertIn("plays 2 tracks", self.page(index))
        self.assertIn(reverse("bench:player-track", args=["2"]), self.page(player))
        heard = self.client.get(reverse("bench:player-track", args=["1"]))
        self.assertEqual(b"".join(heard)[:4] if heard.streaming else heard.content[:4], b"RIFF")
        self.assertEqual(self.client.get(reverse("bench:player-track", args=["3"])).status_code, 409)
        self.client.post(reverse("bench:player-in"), {"disc": "demo:data"})
        self.assertIn("a standard player shows no tracks", self.page(player))
        self.client.post(reverse("bench:player-out"))
        self.assertIn("The player is empty", self.page(player))
        (recorder, *_) = RECORDERS
        address = reverse("bench:blank-in", args=[recorder.key])
        self.client.post(address, {"disc": "80"})
        self.assertIn(f"blank-out-{recorder.key}", self.page(index))
        self.assertIn("not on the shelf", self.client.post(address, {"disc": "moon"}, follow=True).content.decode())
        self.client.post(reverse("bench:blank-out", args=[recorder.key]))
        self.assertNotIn(f"blank-out-{recorder.key}", self.page(index))
