"""What a batch can be asked for: several targets, destinations, names, ways of making, and choices for single tracks."""

import hashlib
import io
import re
from dataclasses import replace
from pathlib import Path
from unittest import mock

import mutagen
import mutagen.flac
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import QueryDict
from django.urls import reverse
from PIL import Image

from rumbrel.core.errors import TargetError
from rumbrel.core.forecast import WhenPresent
from rumbrel.core.tags import TagRules
from rumbrel.core.targets import all_targets, find_target
from rumbrel.core.targets.parsing import parse_target
from rumbrel.core.targets.ways import made_otherwise, ways_of
from rumbrel.core.targets.writing import target_toml
from rumbrel.web.batches.forms import ForecastForm
from rumbrel.web.batches.models import Batch, MeasuredSpeed, TrackChoice
from rumbrel.web.batches.services import choices_of, expected_seconds, forecast_tracks, sweep_covers
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.services import clear_pulls, pull_tracks, start_scan, take_off_tracks
from tests.signals import leftovers, write_film, write_sound
from tests.web.case import WebCase


class WishCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        write_sound(self.source / "a" / "peal.flac", 100_000)
        tags = mutagen.File(self.source / "a" / "peal.flac")
        tags.update({"TITLE": "Peal", "ALBUM": "Tower days"})
        tags.save()
        write_sound(self.source / "b" / "notice.wav", 120_000)
        write_sound(self.source / "b" / "slow.mp3", 120_000, subtype="MPEG_LAYER_III")
        self.scan()
        self.ids = self.pull_all()

    def asked(self, query: str) -> dict[str, object]:
        """What the button of the page with these choices sends."""
        page = self.page(f"{reverse('batches:forecast')}?{query}")
        seen = re.search(r'name="seen" value="([^"]+)"', page)
        chosen = QueryDict(query)
        return chosen.dict() | {"target": chosen.getlist("target")} | ({"seen": seen[1]} if seen else {})

    def start(self, query: str) -> Batch:
        """Press the button that the page with these choices shows, and let the work be done."""
        self.client.post(reverse("batches:start"), self.asked(query))
        self.work()
        return Batch.objects.select_related("job").latest("pk")

    def made(self, batch: Batch) -> dict[str, str]:
        """Results by the paths of their sources and targets, relative to the source folder."""
        return {
            f"{Path(item.source).name} {item.target_slug}": item.output
            for item in batch.items.filter(state__in=("done", "skipped"))
        }

    def sources(self) -> dict[Path, str]:
        return {
            path: hashlib.sha256(path.read_bytes()).hexdigest() for path in self.source.rglob("*") if path.is_file()
        }

    def track(self, name: str) -> Track:
        return Track.objects.get(relative__endswith=name)


class DestinationTests(WishCase):
    def test_a_start_does_what_its_page_showed(self) -> None:
        clear_pulls()
        pull_tracks(ids=self.ids[:1])
        asked = self.asked("target=archive-flac")
        pull_tracks(ids=self.ids)
        page = self.client.post(reverse("batches:start"), asked, follow=True).content.decode()
        self.assertIn("the page showed 1 track, and now there are 3", page)
        self.assertEqual(Batch.objects.count(), 0)
        asked = self.asked("target=archive-flac")
        write_sound(self.source / "b" / "notice.wav", 90_000)
        start_scan(folder=Track.objects.first().folder)
        self.work()
        page = self.client.post(reverse("batches:start"), asked, follow=True).content.decode()
        self.assertIn("tracks changed after the page was opened", page)
        self.assertEqual(Batch.objects.count(), 0)
        self.client.post(reverse("batches:start"), self.asked("target=archive-flac"))
        self.assertEqual(Batch.objects.count(), 1)

    def test_several_targets_each_in_a_folder_of_its_own(self) -> None:
        page = self.page(f"{reverse('batches:forecast')}?target=car-mp3&target=archive-flac")
        self.assert_all_in(
            ("3 tracks", "<b>4</b> convert", "car-mp3/source/a/peal.mp3", "archive-flac/source/b/notice.flac"), page
        )
        batch = self.start("target=car-mp3&target=archive-flac")
        self.assertEqual(batch.counts, {"done": 6})
        self.assertEqual(batch.target_name, "USB stick for the car, MP3 320 and Lossless archive, FLAC")
        self.assertEqual(batch.destination, str(settings.RUMBREL.results))
        made = self.made(batch)
        self.assertEqual(made["peal.flac car-mp3"], f"{settings.RUMBREL.results}/car-mp3/source/a/peal.mp3")
        self.assertEqual(
            made["notice.wav archive-flac"], f"{settings.RUMBREL.results}/archive-flac/source/b/notice.flac"
        )
        for path in made.values():
            self.assertAlmostEqual(
                mutagen.File(path).info.length, (100_000 if "peal" in path else 120_000) / 44_100, delta=0.1
            )
        self.assertEqual(leftovers(self.folder), [])
        again = self.start("target=car-mp3&target=archive-flac")
        self.assertEqual(again.counts, {"skipped": 6}, "each is found finished by its own target")

    def test_beside_the_originals(self) -> None:
        before = self.sources()
        page = self.page(f"{reverse('batches:forecast')}?target=car-mp3&into=beside")
        self.assertIn("the car plays it as it is, and it is there already", page)
        batch = self.start("target=car-mp3&into=beside")
        self.assertEqual((batch.counts, batch.destination), ({"done": 2, "skipped": 1}, ""))
        self.assertEqual(batch.job.message, "2 results beside the originals.")
        self.assertTrue((self.source / "a" / "peal.mp3").exists() and (self.source / "b" / "notice.mp3").exists())
        self.assertEqual({path: digest for path, digest in self.sources().items() if path in before}, before)
        self.assertEqual(len(self.sources()), len(before) + 2)
        page = self.page(reverse("batches:batch", args=[batch.pk]))
        self.assertIn("beside the originals", page)
        tagged = self.page(f"{reverse('batches:forecast')}?target=car-mp3&into=beside&level=tags")
        self.assertIn("slow (2).mp3", tagged, "a gain that was asked for is not left out in silence")
        names = self.client.get(reverse("batches:download-all", args=[batch.pk]))
        self.assertEqual(names.status_code, 200)
        two = self.start("target=car-mp3&target=average-mp3&into=beside&when=number&addition=%20(new)")
        self.assertEqual(
            sorted(Path(path).name for path in self.made(two).values()),
            ["notice (new) (2).mp3", "notice (new).mp3", "peal (new) (2).mp3", "peal (new).mp3", "slow (new) (2).mp3", "slow (new).mp3"],
            "two results never share a name",
        )  # fmt: skip

    def test_a_folder_of_the_users_own_and_what_none_can_be(self) -> None:
        out = self.source / "out" / "new"
        page = self.page(f"{reverse('batches:forecast')}?target=car-mp3&into=folder&folder={out}")
        self.assertIn("its next scan finds them as tracks", page)
        batch = self.start(f"target=car-mp3&into=folder&folder={out}&pattern={{album}}/{{stem}}")
        self.assertEqual(batch.destination, str(out))
        self.assertEqual(
            sorted(str(path.relative_to(out)) for path in out.rglob("*.mp3")),
            ["Tower days/peal.mp3", "notice.mp3", "slow.mp3"],
        )
        count = Batch.objects.count()
        (self.source / "a-file").touch()
        (self.source / "way-out").symlink_to(self.folder)
        for folder, words in (
            (self.folder / "elsewhere", "may only write below"),
            (self.source / "way-out" / "x", "may only write below"),
            (settings.RUMBREL.data / "listening", "may only write below"),
            (self.source / "a-file", "is a file"),
            ("near/by", "by its whole path"),
        ):
            with self.subTest(folder=folder):
                query = {"target": "car-mp3", "into": "folder", "folder": str(folder)}
                self.assertIn(words, self.page(reverse("batches:forecast"), **query))
                self.client.post(reverse("batches:start"), query)
        self.assertEqual(Batch.objects.count(), count)
        self.assertIn("No folder is named yet", self.page(reverse("batches:forecast"), into="folder"))
        self.assert_all_in(
            ("Results go here", ">a<"), self.fragment(reverse("batches:folder"), path=self.source / "no" / "such")
        )
        self.assertIn("lies outside", self.fragment(reverse("batches:folder"), path="/etc"))

    def test_a_pattern_that_cannot_be_is_said(self) -> None:
        page = self.page(reverse("batches:forecast"), pattern="{sparkle}")
        self.assert_all_in(("has no field &#x27;sparkle&#x27;", "source/a/peal.mp3"), page)


class WayTests(WishCase):
    def test_every_way_that_is_offered_is_one_that_the_target_accepts(self) -> None:
        for target in all_targets():
            with self.subTest(target=target.slug):
                self.assertEqual(parse_target(target_toml(target), slug=target.slug), target)
                for way in ways_of(target):
                    other = made_otherwise(target, way.key)
                    self.assertEqual(parse_target(target_toml(other), slug=target.slug), other)
        ways = {way.key for way in ways_of(find_target("small-player"))}
        self.assertIn("mp3-constant-96", ways)
        self.assertEqual([k for k in ways if k.startswith("mp3") and float(k.rpartition("-")[2]) > 128], [])
        self.assertNotIn("mp3-average-128", ways, "an average may come out above the limit")
        self.assertEqual(ways_of(find_target("radio-mp3")), (), "a strict delivery is made in one way")
        with self.assertRaisesRegex(TargetError, "no way 'opus'"):
            made_otherwise(find_target("car-mp3"), "opus")

    def test_for_one_batch_alone_and_kept_afterwards(self) -> None:
        batch = self.start("target=car-mp3&way=mp3-constant-96")
        self.assertEqual(batch.counts, {"done": 3})
        for name in ("peal.flac", "notice.wav"):
            self.assertAlmostEqual(mutagen.File(self.made(batch)[f"{name} car-mp3"]).info.bitrate, 96_000, delta=50)
        self.assertEqual(find_target("car-mp3").make.settings.bitrate_kbps, 320)
        page = self.page(f"{reverse('batches:forecast')}?target=car-mp3&way=mp3-constant-96")
        self.assertIn(f"{reverse('targets:edit', args=['car-mp3'])}?way=mp3-constant-96", page)
        page = self.page(reverse("targets:edit", args=["car-mp3"]), way="mp3-constant-96", **{"as": "text"})
        self.assertIn("bitrate_kbps = 96", page)


class LongForecastTests(WishCase):
    def test_one_too_long_for_a_page_is_made_by_a_job_and_started_from_there(self) -> None:
        with mock.patch("rumbrel.web.batches.views.forecast.MOST_LINES", 2):
            page = self.page(reverse("batches:forecast"), target="car-mp3")
            self.assertIn("A forecast of 3 lines takes a while", page)
            self.assertNotIn("notice.mp3", page)
            seen = re.search(r'name="seen" value="([^"]+)"', page)[1]
            take_off_tracks(ids=[self.track("slow.mp3").pk])
            pull_tracks(ids=[self.track("slow.mp3").pk])
            asked = {"target": "car-mp3", "seen": seen}
            told = self.client.post(reverse("batches:start"), asked, follow=True).content.decode()
            self.assertIn("changed", told)
            self.assertEqual(Batch.objects.count(), 0)
            asked["seen"] = re.search(r'name="seen" value="([^"]+)"', told)[1]
            answer = self.client.post(reverse("batches:start"), asked)
        batch = Batch.objects.get()
        self.assertEqual(answer["Location"], reverse("batches:batch", args=[batch.pk]))
        [job] = self.work()
        self.assertEqual((job.state, job.message), ("done", "The forecast has 3 lines. Start it from its page."))
        page = self.page(reverse("batches:batch", args=[batch.pk]))
        self.assert_all_in(("Start batch", "Nothing has been converted yet", "forecast", "notice"), page)
        self.assertNotIn("Run again", page)
        batch.refresh_from_db()
        self.assertEqual((batch.held, batch.counts), (True, {"waiting": 3}))
        self.assertEqual([path for path in settings.RUMBREL.results.rglob("*") if path.is_file()], [])
        for _ in range(2):
            self.client.post(reverse("batches:begin", args=[batch.pk]))
        [job] = self.work()
        batch.refresh_from_db()
        self.assertEqual((batch.held, batch.counts, job.state), (False, {"done": 3}, "done"))


class ChoiceTests(WishCase):
    def mark(self, act: str, *names: str, **more: str) -> str:
        ids = [self.track(name).pk for name in names]
        values = {"target": "car-mp3", "act": act, "track": ids, **more}
        return self.client.post(reverse("batches:mark"), values, follow=True).content.decode()

    def test_left_out_by_marks_and_by_what_they_share(self) -> None:
        self.assertIn("1 track excluded from the batch", self.mark("leave", "notice.wav"))
        batch = self.start("target=car-mp3")
        self.assertEqual(sorted(self.made(batch)), ["peal.flac car-mp3", "slow.mp3 car-mp3"])
        self.assertEqual(Batch.objects.latest("pk").pk, batch.pk)
        self.assertIn("Restore excluded tracks", self.page(reverse("batches:forecast")))
        self.assertIn("1 track included in the batch again", self.mark("take"))
        self.assertEqual(TrackChoice.objects.count(), 0)
        page = self.mark("leave", target="archive-flac", code="lossy-to-lossless")
        self.assertIn("Left out: <a", page)
        self.assertEqual([c.track_id for c in choices_of(self.ids)], [self.track("slow.mp3").pk])
        self.assertIn("1 track back to the batch", self.mark("forget"))
        self.assertIn("Select lines", self.mark("leave"))
        self.assertIn("Select lines", self.mark("sparkle", "peal.flac"))
        self.assertIn("1 track taken off the pull list", self.mark("off", "peal.flac"))

    def test_the_line_of_one_target_is_left_out_by_itself(self) -> None:
        two, pk = {"target": ["car-mp3", "archive-flac"]}, self.track("peal.flac").pk
        page = self.page(reverse("batches:forecast"), **two)
        self.assertIn(f'value="{pk}:car-mp3" aria-label="Select Peal for USB stick', page)
        left = {**two, "act": "leave", "track": [f"{pk}:archive-flac"]}
        page = self.client.post(reverse("batches:mark"), left, follow=True).content.decode()
        self.assert_all_in(("1 line of 1 track excluded from the batch", "Left out of one target:"), page)
        self.assertNotIn(f'value="{pk}:archive-flac"', page)
        [choice] = choices_of(self.ids)
        self.assertEqual((choice.left_out, choice.not_for), (False, ("archive-flac",)))
        batch = self.start("target=car-mp3&target=archive-flac")
        self.assertEqual([made for made in sorted(self.made(batch)) if "peal" in made], ["peal.flac car-mp3"])
        page = self.client.post(reverse("batches:mark"), {**left, "track": [f"{pk}:car-mp3"]}, follow=True).content
        self.assertIn("Left out: <a", page.decode(), "no target is left for it")
        self.assertIn("1 track included", self.mark("take"))
        self.assertEqual(TrackChoice.objects.count(), 0)

    def test_another_target_another_name_and_other_tags_for_one(self) -> None:
        before = self.sources()
        pk = self.track("peal.flac").pk
        self.mark("for", "notice.wav", other="archive-flac")
        address = reverse("batches:track", args=[pk])
        self.assert_all_in(('value="Peal"', 'value="Tower days"'), self.page(address, target="car-mp3"))
        values = {
            "target": "car-mp3",
            "name": "First: of / all",
            "tag_title": "Opening peal",
            "tag_album": "",
            "tag_artist": "",
        }
        answer = self.client.post(reverse("batches:track-chosen", args=[pk]), values)
        self.assertEqual(answer["Location"], f"{reverse('batches:forecast')}?target=car-mp3")
        batch = self.start("target=car-mp3")
        made = self.made(batch)
        self.assertEqual(sorted(made), ["notice.wav archive-flac", "peal.flac car-mp3", "slow.mp3 car-mp3"])
        self.assertTrue(made["notice.wav archive-flac"].endswith("archive-flac/source/b/notice.flac"))
        self.assertEqual(Path(made["peal.flac car-mp3"]).name, "First- of - all.mp3")
        tags = mutagen.File(made["peal.flac car-mp3"]).tags
        self.assertEqual((str(tags["TIT2"]), "TALB" in tags), ("Opening peal", False))
        self.assertEqual(self.sources(), before)
        self.assertEqual(set(self.start("target=car-mp3").counts), {"skipped"})
        self.client.post(reverse("batches:track-chosen", args=[pk]), values | {"tag_title": "Another"})
        codes = [w["code"] for i in self.start("target=car-mp3").items.all() for w in i.warnings]
        self.assertIn("stale", codes, "other tags are another result")

    def test_a_target_that_is_gone_is_said_and_its_tracks_go_with_the_others(self) -> None:
        TrackChoice.objects.create(track=self.track("notice.wav"), target_slug="no-more")
        form = ForecastForm(QueryDict("target=car-mp3"))
        wish = form.wish(choices_of(self.ids))
        self.assertIn("no-more, which is no longer a target", form.troubles[0])
        self.assertEqual({step.target.slug for step in forecast_tracks(wish=wish).steps}, {"car-mp3"})
        form = ForecastForm(QueryDict("target=car-mp3&way=vorbis-q-0.5"))
        self.assertEqual(form.wish().targets, (find_target("car-mp3"),))
        self.assertIn("none of USB stick for the car", form.troubles[0])
        self.assertEqual(form.query, "target=car-mp3")


class SpeedTests(WishCase):
    def test_time_is_said_once_this_machine_has_done_such_work(self) -> None:
        wish = BatchWish(targets=(find_target("car-mp3"),))
        self.assertIsNone(expected_seconds(forecast_tracks(wish=wish).steps))
        self.start("target=car-mp3")
        speed = MeasuredSpeed.objects.get(work="mp3")
        self.assertAlmostEqual(speed.sound_seconds, 220_000 / 44_100)
        steps = forecast_tracks(wish=BatchWish(targets=(find_target("average-mp3"),))).steps
        MeasuredSpeed.objects.filter(work="mp3").update(sound_seconds=1_000, work_seconds=10)
        MeasuredSpeed.objects.filter(work="copy").update(sound_seconds=100, work_seconds=1)
        coding = [step for step in steps if step.action == "convert"]
        self.assertAlmostEqual(expected_seconds(coding), max(120_000, 220_000 / 2) / 44_100 / 100, places=4)
        self.assertIn("of work", self.page(reverse("batches:forecast"), target="average-mp3", what="convert"))


def _png() -> bytes:
    file = io.BytesIO()
    Image.new("RGB", (40, 30), "navy").save(file, "PNG")
    return file.getvalue()


class OddTests(WishCase):
    """What happens to a batch when the world is not as it was, or was never as one would like it."""

    def test_pictures_are_left_out_of_one_result_and_stay_in_the_source(self) -> None:
        path = self.source / "a" / "peal.flac"
        tags = mutagen.File(path)
        picture = mutagen.flac.Picture()
        picture.data, picture.mime, picture.type = _png(), "image/png", 3
        tags.add_picture(picture)
        tags.save()
        self.scan()
        pk = self.track("peal.flac").pk
        self.client.post(
            reverse("batches:track-chosen", args=[pk]), {"bare": "on", "tag_title": "Peal", "tag_album": "Tower days"}
        )
        for target, has in (
            ("car-mp3", lambda found: "APIC:" in found.tags),
            ("archive-flac", lambda found: bool(found.pictures)),
        ):
            found = mutagen.File(self.made(self.start(f"target={target}"))[f"peal.flac {target}"])
            self.assertFalse(has(found), target)
            self.assertIn("Peal", str(found.tags))
        self.assertEqual(len(mutagen.File(path).pictures), 1)

    def test_another_picture_stands_in_one_result_alone(self) -> None:
        pk = self.track("peal.flac").pk
        address = reverse("batches:track-chosen", args=[pk])
        own = {"tag_title": "Peal", "tag_album": "Tower days"}
        no_picture = SimpleUploadedFile("cover.png", b"GIF89a no picture")
        page = self.client.post(address, own | {"cover": no_picture}).content.decode()
        self.assertIn("not a readable JPEG or PNG picture", page)
        self.client.post(address, own | {"cover": SimpleUploadedFile("cover.png", _png())})
        # What plays as it is, is copied, and has the picture too.
        for target, pictures in (
            ("car-mp3", lambda found: [frame.data for frame in found.tags.getall("APIC")]),
            ("archive-flac", lambda found: [picture.data for picture in found.pictures]),
        ):
            made = self.made(self.start(f"target={target}"))
            self.assertEqual(pictures(mutagen.File(made[f"peal.flac {target}"])), [_png()], target)
        self.assertEqual(mutagen.File(self.source / "a" / "peal.flac").pictures, [])
        self.assertIn("one is chosen", self.page(reverse("batches:track", args=[pk])))
        next(settings.RUMBREL.covers.iterdir()).unlink()
        batch = self.start("target=open-opus")
        texts = [warning["text"] for item in batch.items.all() for warning in item.warnings]
        self.assertIn("The picture that was chosen for the result is gone. Choose it again.", texts)
        self.assertIn(
            "Peal", str(mutagen.File(self.made(batch)["peal.flac open-opus"]).tags), "no more than the picture is lost"
        )
        self.client.post(address, own | {"cover": SimpleUploadedFile("cover.png", _png())})
        page = self.page(reverse("batches:forecast"), target="phone-ulaw")
        self.assertNotIn("so the one that was chosen is left out", page)
        bare = replace(find_target("car-mp3"), tags=TagRules(covers="none"))
        steps = forecast_tracks(
            wish=BatchWish(targets=(bare,), when_present=WhenPresent.REPLACE, choices=choices_of(self.ids))
        ).steps
        said = [warning.text for step in steps for warning in step.warnings]
        self.assertIn("The target takes no pictures, so the one that was chosen is left out.", said)
        self.assertEqual(sweep_covers(), 0)
        self.client.post(address, own | {"own_cover": "on"})
        self.assertEqual(TrackChoice.objects.count(), 0)
        self.assertEqual(sweep_covers(), 0, "batches keep what they were made with")
        Batch.objects.all().delete()
        self.assertEqual(sweep_covers(), 1)

    def test_names_of_another_file_system_and_of_hundreds_of_characters(self) -> None:
        write_sound(self.source / "c" / f"{'bell ' * 45}?.wav", 9_000)
        self.scan()
        self.pull_all()
        batch = self.start("target=archive-flac&system=joliet")
        names = [Path(path).name for path in self.made(batch).values()]
        self.assertTrue(all(len(name) <= 64 and "?" not in name for name in names), names)
        values = {"name": "n" * 500}
        self.client.post(reverse("batches:track-chosen", args=[self.track("notice.wav").pk]), values)
        self.client.post(reverse("batches:track-chosen", args=[self.track("peal.flac").pk]), values)
        made = self.made(self.start("target=car-mp3"))
        names = [Path(made[f"{name} car-mp3"]).name for name in ("notice.wav", "peal.flac")]
        self.assertEqual([len(name) for name in names], [255, 255])

    def test_a_destination_that_may_not_be_written_or_goes_away(self) -> None:
        out = self.source / "out"
        out.mkdir()
        with mock.patch("rumbrel.web.batches.services.forecast_tracks.os.access", return_value=False):
            page = self.page(f"{reverse('batches:forecast')}?into=folder&folder={out}/deeper")
            self.assertIn(f"may not write into {out}", page)
        self.client.post(reverse("batches:start"), {"target": "car-mp3", "into": "folder", "folder": str(out)})
        out.rmdir()
        out.write_text("a file now")
        self.work()
        batch = Batch.objects.latest("pk")
        self.assertEqual((batch.job.state, batch.counts), ("failed", {}))
        self.assertIn("is a file. Choose a folder.", batch.job.error)
        self.assertIn("It stopped.", self.page(reverse("batches:batch", args=[batch.pk])))

    def test_a_source_that_was_replaced_or_went_is_said_and_the_others_go_on(self) -> None:
        self.client.post(reverse("batches:start"), {"target": "archive-flac"})
        write_sound(self.source / "b" / "notice.wav", 50_000, seed=9)
        (self.source / "b" / "slow.mp3").unlink()
        self.work()
        batch = Batch.objects.latest("pk")
        self.assertEqual(batch.counts, {"done": 1, "failed": 2})
        errors = {Path(item.source).name: item.error for item in batch.items.filter(state="failed")}
        self.assertIn("changed after the forecast", errors["notice.wav"])
        self.assertRegex(errors["slow.mp3"], "no longer there|vanished")
        self.assertEqual(leftovers(self.folder), [])

    def test_a_film_of_nine_sounds_and_one_of_none(self) -> None:
        languages = ("eng", "deu", "fra", "ita", "spa", "nld", "swe", "dan", "fin")
        write_film(self.source / "nine.mkv", seconds=2, languages=languages)
        write_film(self.source / "none.mkv", seconds=1, languages=())
        self.scan()
        self.pull_all()
        page = self.page(reverse("batches:forecast"), target="car-mp3")
        self.assertIn("The file has 9 sounds; number 1 is taken", page)
        nine = self.track("nine.mkv")
        page = self.page(reverse("batches:track", args=[nine.pk]), target="car-mp3")
        self.assert_all_in(("eng, chosen", ">fin<"), page)
        back = f"{reverse('batches:forecast')}?target=car-mp3"
        answer = self.client.post(reverse("collection:choose-sound", args=[nine.pk]), {"number": 3, "back": back})
        self.assertEqual(answer["Location"], back)
        self.assertIn("number 3 is taken", self.page(reverse("batches:forecast"), target="car-mp3"))
        batch = self.start("target=car-mp3")
        self.assertIn("nine.mkv car-mp3", self.made(batch))
        self.assertEqual([Path(item.source).name for item in batch.items.filter(state="cannot")], ["none.mkv"])

    def test_two_browsers_at_one_batch_and_a_double_press(self) -> None:
        values = {"target": "car-mp3"}
        for _ in range(3):
            self.client.post(reverse("batches:start"), values)
        self.assertEqual(Batch.objects.count(), 1)
        batch = Batch.objects.get()
        for name in ("stop", "stop", "continue", "first", "pause", "continue"):
            self.client.post(reverse(f"batches:{name}", args=[batch.pk]))
        self.work()
        batch.refresh_from_db()
        self.assertEqual((batch.job.state, batch.counts), ("done", {"done": 3}))
