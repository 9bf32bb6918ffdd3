"""Tracks that are parts of one file, through the screens: added, heard, looked at, made, and kept in line."""

import io
import os
from pathlib import Path

import numpy as np
import soundfile
from django.conf import settings
from django.urls import reverse

from rumbrel.core.disc.design import running_on
from rumbrel.core.targets import find_target
from rumbrel.web.batches.services import start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import DeepLook, Facet, Track
from rumbrel.web.collection.queries import facts_by_id, pull_list_of
from rumbrel.web.collection.services import cut_track, pull_tracks, start_looks
from rumbrel.web.discs.services import change_disc, lay_out_list, plan_layout, put_in, start_write
from rumbrel.web.playlists.services import make_playlist
from tests.core.workflows.test_cut_tracks import EDGES, SHEET
from tests.signals import music, write_sound
from tests.web.case import WebCase


class CutCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = write_sound(self.source / "days" / "days.flac", sound=music(220_500))
        self.path.with_suffix(".cue").write_text(SHEET.format(name="days.flac"))
        self.scan()
        self.whole = Track.objects.get()

    def cut(self, key: str = "sheet days.cue") -> str:
        address = reverse("collection:cut", args=[self.whole.pk])
        return self.client.post(address, {"key": key}, follow=True).content.decode()

    def parts(self) -> list[Track]:
        return list(Track.objects.filter(cut_of=self.whole).order_by("pk"))


class CutTests(CutCase):
    def test_they_are_added_shown_and_taken_out_again(self) -> None:
        page = self.page(reverse("collection:track", args=[self.whole.pk]))
        self.assertIn("Add 3 tracks by the cue sheet days.cue", page)
        page = self.cut()
        self.assert_all_in(("3 tracks of this file added", "Morning peal", "Split again into 3 tracks"), page)
        first, second, third = self.parts()
        self.assertEqual([part.title for part in (first, second, third)], ["Morning peal", "Track 2", "Last light"])
        self.assertEqual([part.samples for part in (first, second, third)], [end - start for start, end in EDGES])
        self.assertAlmostEqual(sum(part.size_bytes for part in self.parts()), self.whole.size_bytes, delta=3)
        self.assertEqual(sum(Facet.objects.values_list("tracks", flat=True)), 4)
        self.assertIn("Morning peal", self.fragment(reverse("collection:rows"), text="venning morning"))
        self.assertIn("The file stays whole", self.page(reverse("collection:track", args=[first.pk])))
        again = [part.pk for part in self.parts()]
        self.cut()
        self.assertEqual([part.pk for part in self.parts()], again)
        self.assertIn("no longer be split that way", self.cut("sheet other.cue"))
        joined = self.client.post(reverse("collection:joined", args=[self.whole.pk]), follow=True).content.decode()
        self.assertIn("3 tracks of this file removed", joined)
        self.assertEqual(Track.objects.get(), self.whole)

    def test_lists_that_would_lose_entries_are_named_first_and_settled_after(self) -> None:
        self.cut()
        playlist = make_playlist(name="Days", track_ids=[part.pk for part in self.parts()])
        self.pull_all()
        self.assertEqual(pull_list_of().count, 3, "the whole would be the same sound once more")
        pull_tracks(ids=[self.whole.pk])
        self.path.with_suffix(".cue").write_text(SHEET.format(name="days.flac").replace("00:02:00", "00:02:10"))
        self.assertIn("Take the tracks that are there out of the collection first", self.cut())
        self.assertEqual(len(self.parts()), 3)
        page = self.page(reverse("collection:join", args=[self.whole.pk]))
        self.assert_all_in(("3 tracks", "1 playlist would lose entries."), page)
        self.client.post(reverse("collection:joined", args=[self.whole.pk]))
        playlist.refresh_from_db()
        self.assertEqual((playlist.entries.count(), playlist.count, pull_list_of().count), (0, 0, 1))
        self.assertIn("3 tracks of this file added", self.cut())

    def test_a_sheet_is_read_beside_the_file_alone_and_only_while_that_is_as_it_was(self) -> None:
        sheet = self.path.with_suffix(".cue")
        sheet.rename(self.folder / "elsewhere.cue")
        sheet.symlink_to(self.folder / "elsewhere.cue")
        os.mkfifo(sheet.with_name("days2.cue"))
        page = reverse("collection:track", args=[self.whole.pk])
        self.assertNotIn("Tracks in this file", self.page(page))
        sheet.unlink()
        (self.folder / "elsewhere.cue").rename(sheet)
        self.assertIn("Add 3 tracks", self.page(page))
        self.path.touch()
        self.assertNotIn("Add 3 tracks", self.page(page))

    def test_a_part_is_heard_and_looked_at_from_its_first_sample_to_its_last(self) -> None:
        self.cut()
        part = self.parts()[1]
        sound, _ = soundfile.read(self.path, dtype="int16")
        answer = self.client.get(reverse("collection:sound", args=[part.pk]))
        heard, _ = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)), dtype="int16")
        start, end = EDGES[1]
        np.testing.assert_array_equal(heard, sound[start:end])
        start_looks(track_ids=[part.pk])
        self.work()
        look = DeepLook.objects.get(track=part)
        self.assertEqual(
            (look.error, look.data["decoded_samples"] if "decoded_samples" in look.data else end - start),
            ("", end - start),
        )
        facts = facts_by_id([part.pk])[part.pk]
        self.assertEqual((facts.samples, facts.tags.first("title"), facts.faults), (end - start, "Track 2", ()))
        self.assertIn("Analysis", self.page(reverse("collection:track", args=[part.pk])))

    def test_parts_are_converted_under_their_names_and_fill_a_disc(self) -> None:
        self.cut()
        ids = [part.pk for part in self.parts()]
        batch = start_batch(track_ids=ids, wish=BatchWish(targets=(find_target("archive-flac"),)))
        self.work()
        batch.refresh_from_db()
        results = sorted(path for path in settings.RUMBREL.results.rglob("*.flac"))
        self.assertEqual(
            [path.name for path in results], ["01 Morning peal.flac", "02 Track 2.flac", "03 Last light.flac"]
        )
        sound, _ = soundfile.read(self.path, dtype="int16")
        for path, (start, end) in zip(results, EDGES, strict=True):
            np.testing.assert_array_equal(soundfile.read(path, dtype="int16")[0], sound[start:end])
        again = start_batch(track_ids=ids, wish=BatchWish(targets=(find_target("archive-flac"),)))
        self.work()
        self.assertEqual(set(again.items.values_list("state", flat=True)), {"skipped"})

    def test_a_disc_of_parts_holds_their_samples(self) -> None:
        long = write_sound(self.source / "long.flac", sound=music(15 * 44_100))
        sheet = SHEET.format(name="long.flac")
        for before, after in (("01:70", "04:70"), ("02:00", "05:00"), ("04:01", "10:00")):
            sheet = sheet.replace(f"00:{before}", f"00:{after}")
        long.with_suffix(".cue").write_text(sheet)
        self.scan()
        whole = Track.objects.get(relative="long.flac")
        cut_track(track=whole, key="sheet long.cue")
        ids = list(whole.cuts.order_by("pk").values_list("pk", flat=True))
        disc = lay_out_list(playlist=make_playlist(name="Days", track_ids=ids))
        keys = [track.key for track in disc.design.tracks]
        joined = plan_layout(disc=disc).audio
        self.assertEqual(
            [row.joins for row in joined.rows], [False, True, True], "stretches that touch are one recording"
        )
        change_disc(disc_id=disc.pk, change=lambda design: running_on(design, keys[1:], True), said="run on")
        disc.refresh_from_db()
        put_in(recorder=disc.recorder_key, shelf_key="80")
        layout = plan_layout(disc=disc).audio.layout
        self.assertEqual([track.programme.samples for track in layout.tracks], [220_500] * 3)
        start_write(disc=disc)
        self.work()
        (image,) = settings.RUMBREL.discs.rglob("*.bin")
        sound, _ = soundfile.read(long, dtype="int16")
        self.assertIn(sound.tobytes(), image.read_bytes(), "joined again, the parts are the whole")

    def test_they_follow_their_file_and_are_missing_where_it_does_not_hold_them(self) -> None:
        self.cut()
        ids = [part.pk for part in self.parts()]
        self.path.parent.rename(self.path.parent.with_name("moved"))
        self.scan()
        moved = self.source / "moved" / "days.flac"
        self.assertEqual([part.pk for part in self.parts()], ids)
        self.assertEqual({facts.path for facts in facts_by_id(ids).values()}, {str(moved)})
        self.assertEqual({part.relative for part in self.parts()}, {"moved/days.flac"})
        write_sound(moved, sound=music(150_000))
        self.scan()
        missing = [part.missing_since is not None for part in self.parts()]
        self.assertEqual(missing, [False, True, True], "what is left of the second is not it")
        write_sound(moved, sound=music(220_500))
        self.scan()
        self.assertEqual({part.missing_since for part in self.parts()}, {None})
        moved.unlink()
        write_sound(moved.with_name("other.flac"), 5_000)
        self.client.post(reverse("collection:believe-loss", args=[self.whole.folder_id]))
        self.work()
        self.assertTrue(all(part.missing_since and part.fault == "missing" for part in self.parts()))

    def test_fixity_bags_and_tags_are_the_files_own(self) -> None:
        self.cut()
        self.client.post(reverse("collection:check-fixity"))
        self.work()
        self.assertIn("<b>1</b> unchanged", self.page(reverse("collection:fixity")))
        pull_tracks(ids=[track.pk for track in Track.objects.all()])
        self.client.post(reverse("collection:make-bag"), {"name": "Days"})
        self.work()
        (bag,) = (settings.RUMBREL.results / "bags").iterdir()
        self.assertEqual([path.name for path in Path(bag, "data").rglob("*") if path.is_file()], ["days.flac"])
        self.assertIn("3 tracks left out", self.page(reverse("tags:tags")))
