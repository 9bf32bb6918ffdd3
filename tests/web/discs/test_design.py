"""A disc changed on its screen: every act by its form, undone, from two windows, offered, filled, followed, measured."""

import html
import json
import re
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.conf import settings
from django.urls import reverse
from mutagen.flac import FLAC

from rumbrel.core.disc.data_disc import read_back_data
from rumbrel.core.disc.packs import decode_packs, fullest_text
from rumbrel.core.errors import DiscError
from rumbrel.core.records import as_record
from rumbrel.web.collection.facts import kept_facts
from rumbrel.web.collection.models import Track, TrackFacts
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.discs.models import Disc, DiscChange, Meeting, SoundMeasure
from rumbrel.web.discs.services import lay_out_list, plan_layout, put_in, start_measuring, start_write
from rumbrel.web.playlists.services import add_tracks, make_playlist
from tests.signals import music, write_sound
from tests.web.discs.test_discs import DiscCase


class TagCase(DiscCase):
    def tag(self, path: Path, **tags: str) -> None:
        file = FLAC(path)
        file.update({name: [value] for name, value in tags.items()})
        file.save()


class ActTests(DiscCase):
    def setUp(self) -> None:
        super().setUp()
        for name in ("one", "two", "three", "four"):
            write_sound(self.source / f"{name}.wav", 400_000)
        self.scan()
        self.made = self.disc("one.wav", "two.wav", "three.wav", "four.wav")

    def keys(self) -> list[int]:
        return [track.key for track in self.fresh(self.made).design.tracks]

    def undo(self) -> str:
        address = reverse("discs:undo", args=[self.made.pk])
        return self.client.post(address, headers={"HX-Request": "true"}).content.decode()

    def test_the_list_says_about_how_full_each_is(self) -> None:
        shown = re.search(r'</svg> <span class="figure">([\d:]+) free', self.page(reverse("discs:index")))[1]
        hours, minutes, seconds = (int(part) for part in shown.split(":"))
        exact = plan_layout(disc=self.fresh(self.made)).plan.layout
        self.assertAlmostEqual(hours * 3600 + minutes * 60 + seconds, exact.free_sectors / 75, delta=2)

    def test_each_act_does_what_it_says_and_is_undone_one_by_one(self) -> None:
        first = self.fresh(self.made).plan
        plans, said = [first], []
        for name, values in (
            ("move", {"keys": "3 1", "before": 4}), ("step", {"keys": "4", "way": "up"}), ("gap", {"key": 2, "gap": "2,5"}),
            ("gap", {"gap": "0:01:37 "}), ("join", {"keys": "1", "on": "on"}), ("leave", {"keys": "3", "out": "on"}),
            ("text", {"key": 1, "field": "title", "value": "<b>Peal"}), ("text", {"field": "title", "value": "New name"}),
            ("sentence", {"level": "album", "ends": "on"}), ("remove", {"keys": "4"}), ("most-gap", {"gap": "1"}),
            ("track", {"key": 1, "title": "<b>Peal", "title_was": "<b>Peal", "isrc": "XA-QCT-26-00001", "isrc_was": "",
                       "marks": "0:02:00 0:01:00", "copy_permitted": "on", "gap": "", "gap_was": "runs on"}),
            ("disc-text", {"title": "Newer", "title_was": "New name", "product_code": "290417300052-3", "genre_code": "3",
                           "first_pause": "4", "hidden": str(self.made.design.tracks[2].source_id)}),
        ):  # fmt: skip
            page = self.act(self.made, name, **values)
            self.assertNotIn("message-error", page, (name, values))
            plans.append(self.fresh(self.made).plan)
            self.assertNotEqual(plans[-1], plans[-2], (name, values))
            said.append(name)
        design = self.fresh(self.made).design
        self.assertEqual(([t.key for t in design.tracks], self.fresh(self.made).name), ([2, 1, 3], "Newer"))
        self.assertEqual((design.gap_sectors, design.first_pause_sectors, design.genre_code), (75, 300, 3))
        self.assertEqual(design.texts["product_code"], "2904173000523")
        track = design.track(1)
        self.assertEqual((track.texts, track.index_sectors, track.copy_permitted, track.runs_on),
                         ({"title": "<b>Peal", "isrc": "XAQCT2600001"}, (75, 150), True, True))  # fmt: skip
        self.assertIn("&lt;b&gt;Peal", self.text(self.made))
        for plan in reversed(plans[:-1]):
            self.undo()
            self.assertEqual(self.fresh(self.made).plan, plan)
        self.assertEqual(self.fresh(self.made).name, "Shop")
        self.assertIn("There is nothing to undo", self.undo())

    def test_bad_input_is_said_and_changes_nothing(self) -> None:
        before = self.fresh(self.made).plan
        for name, values, words in (
            ("gap", {"key": 2, "gap": "nan"}, "is not a gap"),
            ("gap", {"key": 2, "gap": "1e400"}, "is not a gap"),
            ("gap", {"key": 2, "gap": "0:99:00"}, "is not a gap"),
            ("gap", {"key": 99, "gap": "2"}, "no longer on this disc"),
            ("move", {"keys": "x"}, "are no tracks"),
            ("step", {"keys": "1", "way": "aside"}, "aside"),
            ("text", {"key": 1, "field": "isrc", "value": "nonsense"}, "is not an ISRC"),
            ("text", {"key": 1, "field": "colour", "value": "red"}, "no text"),
            ("disc-text", {"title": "x", "product_code": "2904173000524"}, "check digit"),
            ("disc-text", {"title": "x", "genre_code": "29"}, "Select a valid choice"),
            ("spelling", {"spellings": "[1]"}, "cannot be read"),
            ("spelling", {"spellings": "nonsense"}, "valid JSON"),
            ("disc-text", {"title": "x", "hidden": "99999"}, "Only a sound of this list"),
            ("track", {"key": 1, "marks": "soon"}, "marks cannot be read"),
        ):
            self.assertIn(words, self.act(self.made, name, **values), (name, values))
        self.assertEqual((self.fresh(self.made).plan, DiscChange.objects.count()), (before, 0))
        self.assertEqual(self.client.post(reverse("discs:act", args=[self.made.pk, "moon"])).status_code, 404)

    def test_two_windows_lose_nothing_and_the_later_one_is_told(self) -> None:
        self.act(self.made, "gap", gap="3", revision=0)
        page = self.act(self.made, "text", key=2, field="title", value="Mine", revision=0)
        self.assertIn(
            "Another window changed this disc meanwhile (a gap of 3 between all tracks). Nothing is lost", page
        )
        design = self.fresh(self.made).design
        self.assertEqual((design.gap_sectors, design.track(2).texts["title"]), (225, "Mine"))
        self.act(self.made, "remove", keys="3", revision=2)
        self.assertIn(
            "no longer on this disc", self.act(self.made, "text", key=3, field="title", value="x", revision=2)
        )

    def test_its_list_is_followed_and_what_was_said_of_tracks_stays(self) -> None:
        self.act(self.made, "text", key=2, field="title", value="Kept")
        more = write_sound(self.source / "five.wav", 400_000)
        self.scan()
        add_tracks(playlist_id=self.made.playlist_id, track_ids=[Track.objects.get(relative=more.name).pk])
        self.made.playlist.entries.first().delete()
        self.assertIn("1 track more and 1 fewer", " ".join(self.text(self.made).split()))
        page = self.client.post(
            reverse("discs:follow", args=[self.made.pk]), headers={"HX-Request": "true"}
        ).content.decode()
        self.assertNotIn("Update from playlist", page)
        design = self.fresh(self.made).design
        self.assertEqual([track.texts.get("title") for track in design.tracks], ["Kept", None, None, None])

    def test_the_rest_is_filled_from_a_pool(self) -> None:
        disc = self.disc("one.wav")
        self.act(disc, "sentence", medium="21")
        self.pull_all()
        page = self.fragment(reverse("discs:fill", args=[disc.pk]), pool="pulled")
        self.assert_all_in(("3 tracks would leave 20:17:51", "three"), page)
        ids = [track.source_id for track in self.made.design.tracks[1:]]
        self.client.post(
            reverse("discs:take-filling", args=[disc.pk]), {"tracks": " ".join(map(str, ids)) + " x 999999"}
        )
        self.assertEqual([track.source_id for track in self.fresh(disc).design.tracks[1:]], ids)
        self.assertIn(
            "Nothing that is not on the disc", self.fragment(reverse("discs:fill", args=[disc.pk]), pool="pulled")
        )
        self.assertIn("Choose the pull list", self.fragment(reverse("discs:fill", args=[disc.pk]), pool="moon"))

    def test_lists_that_no_disc_can_be(self) -> None:
        with self.assertRaisesRegex(DiscError, "The list is empty"):
            playlist = make_playlist(name="x", track_ids=[self.made.design.tracks[0].source_id])
            playlist.entries.all().delete()
            lay_out_list(playlist=playlist)
        long = make_playlist(name="Long", track_ids=[self.made.design.tracks[0].source_id] * 1_001)
        page = self.client.post(reverse("discs:lay-out", args=[long.pk]), follow=True).content.decode()
        self.assertIn("1,001 tracks; a disc holds 99", page)
        hundred = make_playlist(name="Hundred", track_ids=[self.made.design.tracks[0].source_id] * 100)
        disc = lay_out_list(playlist=hundred)
        self.assertIn("100 tracks (99 allowed)", self.text(disc))

    def test_one_that_runs_over_is_divided_and_put_together_again(self) -> None:
        ids = [track.source_id for track in self.made.design.tracks]
        for pk, facts in facts_by_id(ids).items():
            TrackFacts.objects.filter(track_id=pk).update(data=kept_facts(replace(facts, samples=44_100 * 60 * 30)))
        page = self.client.get(reverse("discs:preview", args=[self.made.pk]), {"offer": "even"}).content.decode()
        self.assertEqual(page.count("2 tracks on the 80 minute blank"), 2)
        self.client.post(reverse("discs:offer", args=[self.made.pk]), {"offer": "even"})
        discs = list(Disc.objects.order_by("pk"))
        self.assertEqual(
            [(disc.name, len(disc.design.tracks), disc.parts) for disc in discs], [("Shop 1", 2, 2), ("Shop 2", 2, 2)]
        )
        self.assertEqual([disc.design.texts["title"] for disc in discs], ["Shop 1", "Shop 2"])
        self.assertIn("Shop 2", self.text(self.made))
        page = self.client.post(
            reverse("discs:offer", args=[self.made.pk]), {"offer": "even"}, follow=True
        ).content.decode()
        self.assertIn("That offer was for the disc as it was before", page)
        self.undo()
        self.assertEqual(
            [(disc.name, len(disc.design.tracks), disc.parts) for disc in Disc.objects.all()], [("Shop", 4, 1)]
        )
        self.client.post(reverse("discs:offer", args=[self.made.pk]), {"offer": "even"})
        second = Disc.objects.get(name="Shop 2")
        self.act(second, "gap", gap="3")
        self.assertIn("1 disc made of it stays", self.undo())
        self.assertTrue(Disc.objects.filter(pk=second.pk).exists())


class LongTextTests(TagCase):
    def test_titles_beyond_what_cd_text_holds_are_shortened_or_left_out_by_a_press(self) -> None:
        words = "A rather long and quite ordinary title of a piece for bells, the like of which fills a whole disc"
        for number in range(1, 5):
            write_sound(self.source / f"{number}.flac", 44_100 * 5, seed=number)
            title = " ".join([f"Number {number}:"] + [words] * 4)
            self.tag(
                self.source / f"{number}.flac", title=title[:480], artist="The Ringers", composer=f"{words} {words}"
            )
        self.scan()
        disc = self.disc()
        design = disc.design
        texts = {
            "title": "Bells",
            "message": "x " * 240,
            "songwriter": words * 5,
            "arranger": words * 5,
            "composer": words * 5,
        }
        disc.plan = as_record(replace(design, texts=texts))
        disc.save(update_fields=["plan"])
        page = self.text(disc)
        self.assert_all_in(("at most 256 fit", "titles and performers alone", "no packs with no CD-Text"), page)
        with self.assertRaisesRegex(DiscError, "at most 256 fit"):
            start_write(disc=disc)
        page = self.act(disc, "cd-text", rule="titles-performers")
        self.assertNotIn("at most 256 fit", page)
        disc = self.write(disc)
        self.assertEqual(disc.state, "written", disc.error)
        packs = decode_packs(Path(disc.image_path).with_suffix(".cdt").read_bytes())
        self.assertEqual((packs.disc.title, packs.disc.message, packs.tracks[0].composer), ("Bells", "", ""))
        self.assertTrue(packs.tracks[0].title.startswith("Number 1: A rather long"))
        self.client.post(reverse("discs:undo", args=[disc.pk]))
        self.assertIn("at most 256 fit", self.text(disc))
        self.act(disc, "cd-text", rule="none")
        disc = self.write(self.fresh_blank(disc))
        self.assertEqual(disc.state, "written", disc.error)
        self.assertFalse(Path(disc.image_path).with_suffix(".cdt").exists())
        sheet = Path(disc.image_path).with_suffix(".cue").read_text()
        self.assertIn(f'TITLE "Number 2: {words}', sheet)
        self.assertNotIn("CDTEXTFILE", sheet)
        self.assertIn("Select a valid choice", self.act(disc, "cd-text", rule="odd"))

    def test_titles_that_the_code_loses_are_spelled_at_one_press(self) -> None:
        for name in ("one", "two"):
            write_sound(self.source / f"{name}.wav", 400_000)
        self.scan()
        made = self.disc("one.wav", "two.wav")
        self.act(made, "text", key=1, field="title", value="鐘の音")
        page = self.act(made, "text", key=2, field="title", value="塔")
        self.assert_all_in(
            ("players show “???” for “鐘の音”, and 1 more like it", "transliterate", "Add a Japanese block"), page
        )
        proposals = json.loads(html.unescape(re.search(r'name="spellings" value="([^"]+)"', page)[1]))  # type: ignore[index]
        self.assertEqual(set(proposals), {"鐘の音", "塔"})
        page = self.act(made, "spelling", spellings=json.dumps(proposals))
        self.assertNotIn("players show “", page)
        self.act(made, "spelling", text=["鐘の音", "塔"], spelled=["Kane no ne", "To"])
        self.act(made, "spelling", japanese="on")
        made = self.write(self.fresh(made))
        self.assertEqual(made.state, "written", made.error)
        packs = Path(made.image_path).with_suffix(".cdt").read_bytes()
        self.assertEqual([t.title for t in decode_packs(packs).tracks], ["Kane no ne", "To"])
        self.assertEqual([t.title for t in fullest_text(packs).tracks], ["鐘の音", "塔"])
        self.assertIn('TITLE "鐘の音"', Path(made.image_path).with_suffix(".cue").read_text())
        self.client.post(reverse("discs:undo", args=[made.pk]))
        found = self.fresh(made)
        self.assertNotEqual(plan_layout(disc=found).mark, found.written_mark, "without the block it is another disc")

    def fresh_blank(self, disc: Disc) -> Disc:
        put_in(recorder=disc.recorder_key, shelf_key="80")
        return disc


class MeasureTests(TagCase):
    def test_what_is_measured_stays_true_until_its_file_changes(self) -> None:
        whole = music(800_000)
        for number, part in enumerate((whole[:400_000], whole[400_000:])):
            path = self.source / f"part {number}.flac"
            soundfile.write(path, part, 44_100, subtype="PCM_16")
            self.tag(path, album="Concert", title=f"Part {number}")
        self.scan()
        disc = self.disc()
        self.assertIn("2 tracks not measured yet", self.text(disc))
        self.client.post(reverse("discs:measure", args=[disc.pk]))
        self.assertIn("measuring", self.fragment(reverse("discs:measuring", args=[disc.pk])))
        self.assertEqual([job.message for job in self.work()], ["2 sounds measured."])
        answer = self.client.get(reverse("discs:measuring", args=[disc.pk]))
        self.assertEqual(answer["HX-Trigger"], "measured")
        self.assertEqual((SoundMeasure.objects.count(), Meeting.objects.get().meets), (2, True))
        page = self.text(disc)
        self.assert_all_in(
            ("tracks 1 and 2 are one recording (Part 0, Part 1); shall they run on?", "nothing is limited",
             "Hear the seam"), page
        )  # fmt: skip
        address = reverse("discs:seam", args=[disc.pk, 2])
        heard = [self.client.get(address + query) for query in ("?joined=1", "")]
        sounds = [b"".join(each) if each.streaming else each.content for each in heard]
        wanted = np.rint(whole[400_000 - 220_500 : 400_000 + 220_500] * 32768).clip(-32768, 32767)
        joined = np.frombuffer(sounds[0][44:], "<i2").reshape(-1, 2)[: len(wanted)]
        self.assertLessEqual(np.abs(joined - wanted).max(), 1)
        self.assertEqual(len(sounds[1]) - len(sounds[0]), 2 * 75 * 2352)
        self.assertEqual(self.client.get(reverse("discs:seam", args=[disc.pk, 1])).status_code, 409)
        self.assertIsNone(start_measuring(disc=disc), "nothing is left to be measured")
        before = plan_layout(disc=disc).mark
        SoundMeasure.objects.all().delete()
        self.assertEqual(plan_layout(disc=disc).mark, before, "what is known of a sound is not what is written")
        start_measuring(disc=disc)
        with mock.patch("rumbrel.web.discs.services.measure_sounds.measure_all", return_value={}):
            self.assertEqual([job.message for job in self.work()], ["0 sounds measured, 2 could not be."])
        self.assertIsNone(start_measuring(disc=disc), "what could not be measured is not tried for ever")
        track = Track.objects.get(relative="part 0.flac")
        facts = facts_by_id([track.pk])[track.pk]
        TrackFacts.objects.filter(track=track).update(data=kept_facts(replace(facts, modified_ns=1)))
        self.assertIsNotNone(start_measuring(disc=disc))


class FilesTests(DiscCase):
    def test_the_list_stays_when_the_kind_changes_and_a_disc_of_files_is_compared(self) -> None:
        self.gather()
        disc = self.disc("a/peal <b>.flac", "notice 🔔.wav")
        page = self.act(disc, "sentence", kind="data")
        self.assert_all_in(("No standard player plays it", ">free 73", "001 peal &lt;b&gt;.flac", "as it is"), page)
        page = self.act(disc, "sentence", names="own", pattern="{title} ({number:02})")
        self.assert_all_in(("peal &lt;b&gt; (01).flac", "notice 🔔 (02).wav", "Pattern of names"), page)
        self.assertIn("has no field &#x27;colour&#x27;", self.act(disc, "sentence", names="own", pattern="{colour}"))
        self.act(disc, "sentence", names="on")
        page = self.act(disc, "sentence", kind="files", names="")
        self.assert_all_in(("about", "converted", "shows no tracks on it"), page)
        self.assertEqual(self.fresh(disc).design.target_slug, "car-mp3")
        disc = self.write(disc)
        self.assertEqual((disc.state, disc.error), ("written", ""))
        self.assertEqual([v["equal"] for v in disc.verdicts], [True, True])
        self.assertTrue(disc.image_path.endswith(".iso"))
        self.assertEqual(self.text(disc).count(">identical<"), 2)
        printed = self.client.get(reverse("discs:printed", args=[disc.pk, "inlay", "svg"])).content.decode()
        self.assertRegex(printed, r"2 tracks, 0:[0-9]{2}, MP3 files")
        self.assertIn("written</span>", self.act(disc, "leave", keys="99", out="on"), "nothing was changed")
        page = self.act(disc, "sentence", kind="audio")
        self.assertIn("Plays on every standard player", page)

    def test_a_file_that_does_not_come_back_as_it_was_is_no_disc(self) -> None:
        self.gather()
        disc = self.disc("a/peal <b>.flac")
        self.act(disc, "sentence", kind="data")
        whole = (self.source / "a" / "peal <b>.flac").read_bytes()

        def torn(image, names, **more):  # type: ignore[no-untyped-def]
            (self.source / "a" / "peal <b>.flac").write_bytes(whole[:-1] + b"?")
            return read_back_data(image, names, **more)

        with mock.patch("rumbrel.web.discs.services.write_disc.read_back_data", torn):
            disc = self.write(disc)
        self.assertEqual(disc.state, "failed")
        self.assertIn("does not read back as written", disc.error)
        self.assertEqual(list(settings.RUMBREL.discs.rglob("*.iso")), [])
        put_in(recorder="quick", shelf_key="80")


class InlayTests(DiscCase):
    def test_every_piece_is_shown_and_printed(self) -> None:
        self.gather()
        disc = self.disc("a/peal <b>.flac", "notice 🔔.wav")
        page = self.page(reverse("discs:inlay", args=[disc.pk]), variant="ruler")
        self.assert_all_in(("151 x 118 mm", "240 x 120 mm", "do not hold 🔔"), page)
        for piece in ("inlay", "front", "slim", "face"):
            svg = self.client.get(reverse("discs:printed", args=[disc.pk, piece, "svg"]))
            self.assertTrue(svg.content.startswith(b"<svg "), piece)
            pdf = self.client.get(reverse("discs:printed", args=[disc.pk, piece, "pdf"]), {"save": ""})
            self.assertTrue(pdf.content.startswith(b"%PDF-"), piece)
            self.assertIn(f"disc-{disc.pk}-{piece}.pdf", pdf["Content-Disposition"])
        self.assertIn(b"&lt;b&gt;", self.client.get(reverse("discs:printed", args=[disc.pk, "inlay", "svg"])).content)
        for piece, form in (("moon", "pdf"), ("inlay", "docx")):
            self.assertEqual(self.client.get(reverse("discs:printed", args=[disc.pk, piece, form])).status_code, 404)
