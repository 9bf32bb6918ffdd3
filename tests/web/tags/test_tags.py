"""Tags of one track and of many: shown, previewed, written in the background, taken back."""

import html
import io
import json
import re
from unittest import mock

import mutagen.flac
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from PIL import Image

from rumbrel.core.errors import OutputError
from rumbrel.core.tags import TagSet, write_tags
from rumbrel.web.collection.models import DeepLook, Facet, Track
from rumbrel.web.collection.queries import find_tracks, pulled_ids
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.collection.services import clear_pulls, pull_tracks, start_looks, start_scan
from rumbrel.web.tags.models import EditedFile, TagEdit
from rumbrel.web.tags.services import sweep_undo
from tests.signals import write_sound
from tests.web.case import WebCase


class TagCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        for number in range(1, 4):
            path = write_sound(self.source / "Tower" / f"0{number} Peal <b>{number}.flac", 9_000, seed=number)
            fields = {"title": (f"Old {number}",), "album": ("Tower",), "genre": ("Bells",)}
            write_tags(path, TagSet(fields=fields), container="flac", codec="flac")
        self.scan()
        self.ids = self.pull_all()

    def told(self, number: int) -> mutagen.flac.FLAC:
        return mutagen.flac.FLAC(self.source / "Tower" / f"0{number} Peal <b>{number}.flac")

    def cells(self, **texts: str) -> str:
        """The same typed for every file, as the grid sends it."""
        return json.dumps({str(pk): texts for pk in self.ids})

    def preview(self, **asked: object) -> str:
        return self.client.post(reverse("tags:preview"), asked).content.decode()

    def shown(self, **asked: object) -> dict[str, object]:
        """What is asked, with what the page that shows these tracks sends along."""
        page = self.page(reverse("tags:tags"), **({"tracks": asked["tracks"]} if "tracks" in asked else {}))
        seen = re.search(r'name="seen" value="([^"]+)"', page)
        assert seen is not None
        return {**asked, "seen": seen[1]}

    def write(self, **asked: object) -> TagEdit:
        answer = self.client.post(reverse("tags:write"), self.shown(**asked))
        edit = TagEdit.objects.latest("pk")
        self.assertRedirects(answer, reverse("tags:edit", args=[edit.pk]))
        self.work()
        return edit

    def picture(self, size: int = 800) -> SimpleUploadedFile:
        data = io.BytesIO()
        Image.new("RGB", (size, size), (20, 90, 80)).save(data, "PNG")
        return SimpleUploadedFile("cover.png", data.getvalue())


class EditTests(TagCase):
    def test_values_that_differ_and_values_that_are_alike(self) -> None:
        page = self.page(reverse("tags:tags"))
        self.assert_all_in(
            ("3 tracks of the pull list", 'data-field="album" data-was="Tower"', ">Old 2</textarea>"), page
        )
        self.assertNotIn('data-field="composer"', page)
        self.assertIn('data-field="composer"', self.page(reverse("tags:tags"), field="composer"))
        self.assertIn("1 track.", self.page(reverse("tags:tags"), tracks=self.ids[0]))
        write_sound(self.source / "a.caf", 9_000)
        (self.source / "empty.wav").touch()
        start_scan(folder=Track.objects.first().folder)
        self.work()
        self.pull_all()
        self.assertIn("2 tracks left out", self.page(reverse("tags:tags")))
        self.assertIn("No track to edit", self.page(reverse("tags:tags"), tracks="999999"))

    def test_what_would_change_is_shown_for_every_file(self) -> None:
        self.assertIn("Nothing changed yet", self.preview())
        asked = {"more_name": "album", "more_value": "Tower", "pattern": "{track:02d} {title}"}
        page = self.preview(**asked, cells=self.cells(genre=""))
        # Three titles, numbers and genres; the album is that already.
        self.assertIn("Save 9 changes in 3 files", page)
        changes, counts = (
            json.loads(html.unescape(re.search(rf'<script id="{name}"[^>]*>(.*?)</script>', page)[1]))  # type: ignore[index]
            for name in ("tag-changes", "tag-counts")
        )
        self.assertEqual(changes[str(self.ids[1])], {"title": "Peal <b>2", "track": "2", "genre": ""})
        self.assertEqual(counts, {"pattern": 3, "values": 0, "cells": 3})
        same = self.preview(more_name="album", more_value="Tower")
        self.assertIn("every file has these tags already", same)
        own = {str(self.ids[1]): {"title": "Mine"}}
        page = self.preview(pattern="{track:02d} {title}", case="upper", cells=json.dumps(own))
        self.assertIn('"title": "Mine"', page, "what was typed for one file comes last")
        for asked, words in (
            ({"pattern": "{titel}"}, "no field &#x27;titel&#x27;"),
            ({"swap_one": "title"}, "Choose both fields"),
            ({"more_name": "title", "more_value": "x" * 5_000}, "at most 4000 characters"),
            ({"cells": json.dumps({"1": {"title": "x" * 5_000}})}, "at most 4,000 characters"),
            ({"cells": "[1]"}, "could not be read"),
            ({"cells": json.dumps({"1": {"colour": "red"}})}, "no field &#x27;colour&#x27;"),
            ({"cover": SimpleUploadedFile("x.png", b"no picture"), "cover_act": "put"}, "not a readable JPEG or PNG"),
        ):
            self.assertIn(words, self.preview(**asked), asked)

    def test_written_found_and_taken_back(self) -> None:
        start_looks(track_ids=self.ids)
        self.work()
        edit = self.write(
            more_name="album", more_value="Days & nights", pattern="{track:02d} {title}", cells=self.cells(genre="")
        )
        edit.job.refresh_from_db()
        self.assertEqual(edit.job.message, "3 files written, the sound of each proved unchanged.")
        self.assertEqual(
            dict(self.told(2).tags), {"album": ["Days & nights"], "tracknumber": ["2"], "title": ["Peal <b>2"]}
        )
        self.assertEqual(find_tracks(Sentence(text="nights")).count(), 3)
        track = Track.objects.get(pk=self.ids[1])
        self.assertEqual((track.title, track.album), ("Peal <b>2", "Days & nights"))
        look = DeepLook.objects.get(track=track)
        self.assertEqual(
            (look.size_bytes, look.modified_ns), (track.size_bytes, track.modified_ns), "its sound is known still"
        )
        start_scan(folder=track.folder)
        self.assertIn("3 tracks", self.work()[0].message)
        page = self.page(reverse("tags:edit", args=[edit.pk]))
        for text in ("Old 2", "Peal &lt;b&gt;2", "removed", "Undo"):
            self.assertIn(text, page)
        self.client.post(reverse("tags:undo", args=[edit.pk]))
        self.work()
        self.assertEqual(dict(self.told(2).tags), {"title": ["Old 2"], "album": ["Tower"], "genre": ["Bells"]})
        self.assertEqual(Facet.objects.get().tracks, 3)
        page = self.client.post(reverse("tags:undo", args=[edit.pk]), follow=True).content.decode()
        self.assertIn("undone already", page)
        self.assertIn("Tags edited", self.page(reverse("collection:track", args=[track.pk])))

    def test_pictures_are_put_in_made_smaller_taken_out_and_come_back(self) -> None:
        self.write(cover_act="put", cover=self.picture())
        self.assertEqual([len(self.told(n).pictures) for n in (1, 2, 3)], [1, 1, 1])
        self.write(cover_act="smaller", cover_pixels=100)
        with Image.open(io.BytesIO(self.told(1).pictures[0].data)) as small:
            self.assertEqual((small.size, small.format), ((100, 100), "JPEG"))
        taken = self.write(cover_act="take", tracks=str(self.ids[0]))
        self.assertEqual([len(self.told(n).pictures) for n in (1, 2)], [0, 1])
        self.client.post(reverse("tags:undo", args=[taken.pk]))
        self.work()
        with Image.open(io.BytesIO(self.told(1).pictures[0].data)) as small:
            self.assertEqual(small.size, (100, 100))
        page = self.client.post(reverse("tags:write"), self.shown(cover_act="put"), follow=True).content.decode()
        self.assertIn("Choose the picture", page)

    def test_a_file_that_cannot_be_written_is_said_and_the_others_go_on(self) -> None:
        changed = self.source / "Tower" / "02 Peal <b>2.flac"
        changed.touch()
        edit = self.write(more_name="genre", more_value="Carillon")
        edit.job.refresh_from_db()
        self.assertEqual(edit.job.message, "2 files written, the sound of each proved unchanged; 1 could not be.")
        self.assertEqual([self.told(n).tags["genre"] for n in (1, 2, 3)], [["Carillon"], ["Bells"], ["Carillon"]])
        self.assertIn("changed since it was scanned", self.page(reverse("tags:edit", args=[edit.pk])))
        start_scan(folder=Track.objects.first().folder)
        self.work()
        self.client.post(reverse("tags:again", args=[edit.pk]))
        self.work()
        self.assertEqual(self.told(2).tags["genre"], ["Carillon"])
        self.assertEqual(set(edit.files.values_list("state", flat=True)), {EditedFile.State.DONE})

    def test_a_kill_behind_the_write_does_not_lose_the_way_back(self) -> None:
        self.write(cover_act="put", cover=self.picture())
        settle = "rumbrel.web.tags.services.carry_out_edit._settle"
        with mock.patch(settle, side_effect=OutputError("killed")):
            edit = self.write(more_name="genre", more_value="Carillon", numbers="on", cover_act="take")
        edit.job.refresh_from_db()
        self.assertEqual((edit.job.state, edit.job.error), ("failed", "killed"))
        # Some were written before the kill, and are not written once more.
        written = {
            path: path.stat().st_mtime_ns
            for path in self.source.rglob("*.flac")
            if mutagen.flac.FLAC(path)["genre"] == ["Carillon"]
        }
        self.assertTrue(written)
        self.client.post(reverse("jobs:continue", args=[edit.job.pk]))
        self.work()
        edit.job.refresh_from_db()
        self.assertEqual(edit.job.message, "3 files written, the sound of each proved unchanged.")
        self.assertEqual({path: path.stat().st_mtime_ns for path in written}, written)
        self.assertEqual(set(edit.files.values_list("state", flat=True)), {EditedFile.State.DONE})
        self.assertEqual([self.told(n).tags["tracknumber"] for n in (1, 2, 3)], [["1"], ["2"], ["3"]])
        self.client.post(reverse("tags:undo", args=[edit.pk]))
        self.work()
        for number in (1, 2, 3):
            file = self.told(number)
            self.assertEqual(
                (file.tags["genre"], "tracknumber" in file.tags, len(file.pictures)), (["Bells"], False, 1)
            )

    def test_what_was_kept_of_edits_that_are_gone_is_swept(self) -> None:
        edit = self.write(cover_act="put", cover=self.picture())
        there = set(settings.RUMBREL.undo.iterdir())
        self.assertEqual(sweep_undo(), 0)
        for name in (f"edit-{edit.pk + 9}.json", "file-999.json", "note-999.json", "file-x.json"):
            (settings.RUMBREL.undo / name).touch()
        self.assertEqual(sweep_undo(), 3)
        self.assertEqual(set(settings.RUMBREL.undo.iterdir()) - there, {settings.RUMBREL.undo / "file-x.json"})

    def test_only_what_the_page_showed_is_written(self) -> None:
        """Pulled or edited in another window meanwhile, not said at all, or not to be read: no file is changed."""
        address = reverse("tags:write")
        clear_pulls()
        pull_tracks(ids=self.ids[:1])
        asked = self.shown(more_name="genre", more_value="Carillon")
        preview = re.search(r'name="seen" value="([^"]+)"', self.preview(more_name="genre", more_value="Carillon"))
        assert preview is not None
        self.assertEqual(preview[1], asked["seen"])
        pull_tracks(ids=self.ids)
        page = self.client.post(address, asked, follow=True).content.decode()
        self.assertIn("the page showed 1 file, and now there are 3", page)
        for wrong in (
            {},
            {"seen": ""},
            {"tracks": "odd"},
            {"tracks": f"{self.ids[0]},"},
            {"tracks": "pulled", "seen": "3-x"},
        ):
            self.client.post(address, {"more_name": "genre", "more_value": "Carillon", **wrong})
        one = self.shown(more_name="genre", more_value="Carillon", tracks=str(self.ids[0]))
        self.write(more_name="title", more_value="Another", tracks=str(self.ids[0]))
        self.assertIn(
            "files changed after the page was opened", self.client.post(address, one, follow=True).content.decode()
        )
        self.assertEqual(TagEdit.objects.count(), 1)
        self.assertEqual({self.told(number)["genre"][0] for number in (1, 2, 3)}, {"Bells"})

    def test_a_second_press_of_an_edit_changes_nothing(self) -> None:
        asked = self.shown(more_name="album", more_value="Day", tracks=str(self.ids[0]))
        for _ in range(2):
            page = self.client.post(reverse("tags:write"), asked, follow=True).content.decode()
        self.assertIn("being written", page)
        self.work()
        TagEdit.objects.all().delete()
        self.write(more_name="genre", more_value="Carillon")
        page = self.client.post(
            reverse("tags:write"), self.shown(more_name="genre", more_value="Carillon"), follow=True
        ).content.decode()
        self.assertIn("No change: every file", page)
        self.assertEqual((TagEdit.objects.count(), len(pulled_ids())), (1, 3))
