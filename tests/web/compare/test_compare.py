"""Comparisons and blind tests on their pages."""

import csv
import html
import io
import json
import re
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.http import QueryDict
from django.urls import reverse

from rumbrel.core.targets import find_target
from rumbrel.core.workflows.compare import plain_file
from rumbrel.web.batches.models import Item
from rumbrel.web.batches.services import start_batch
from rumbrel.web.batches.steps import restored_step
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import Track
from rumbrel.web.compare.models import BlindTest, Comparison
from rumbrel.web.compare.services import comparison_folder
from rumbrel.web.jobs.models import Job
from tests.signals import decoded, write_sound
from tests.web.case import WebCase, plain_spaces


class CompareCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = write_sound(self.source / "peal.wav", 44_100 * 5)
        self.scan()
        self.track = Track.objects.get()

    def make(self, *settings: str, **values: object) -> str:
        sent = QueryDict(mutable=True)
        for name, value in {"track": self.track.pk, "start": 1, "seconds": 10, **values}.items():
            sent[name] = str(value)
        sent.setlist("setting", [*settings, ""])
        page = self.client.post(
            reverse("compare:start"), sent.dict() | {"setting": sent.getlist("setting")}, follow=True
        )
        self.work()
        return page.content.decode()


class ComparisonTests(CompareCase):
    def test_from_the_choice_to_the_sounds(self) -> None:
        batch = start_batch(track_ids=[self.track.pk], wish=BatchWish(targets=(find_target("car-mp3"),), trims=True))
        self.work()
        item = batch.items.get()
        page = self.page(reverse("compare:index"), track=self.track.pk, setting=f"item:{item.pk}")
        self.assertIn(f'value="item:{item.pk}" checked', page)
        self.assert_all_in(("<summary>Results", "way:open-opus:opus-variable-96"), page)
        page = self.make(
            f"item:{item.pk}", "target:pocket-aac", "way:average-mp3:mp3-constant-64", "way:car-mp3:mp3-constant-96"
        )
        self.assertIn("5 sounds of 5 s", plain_spaces(page))
        made = Comparison.objects.get()
        self.assertEqual([voice["error"] for voice in made.found], [""] * 5)
        self.assertEqual((made.start_seconds, made.seconds), (0.0, 5.0), "a track of 5 s holds no 10 s")
        self.assertLess(made.found[1]["difference_db"], -20, "a result that is there, with what was cut off before it")
        self.assertEqual([round(voice["bitrate_bps"] / 1000) for voice in made.found[3:]], [64, 96])
        self.assertEqual(self.client.get(reverse("compare:state", args=[made.pk])).headers["HX-Refresh"], "true")
        page = self.page(reverse("compare:comparison", args=[made.pk]))
        self.assertEqual(page.count("data-sound="), 5)
        for number in range(5):
            sound = b"".join(self.client.get(reverse("compare:sound", args=[made.pk, number])).streaming_content)
            self.assertEqual(len(sound), 44 + 5 * 44_100 * 2 * 3, "WAV, 24 bit, two channels")
            picture = self.client.get(reverse("compare:picture", args=[made.pk, number])).json()
            self.assertEqual((picture["bands"], picture["top_hz"]), (96, 22_050))
        self.assertEqual(
            self.client.get(reverse("compare:picture", args=[made.pk, 0]), {"difference": ""}).status_code, 404
        )
        self.assertEqual(
            self.client.get(reverse("compare:picture", args=[made.pk, 1]), {"difference": ""}).status_code, 200
        )
        self.assertEqual(list(comparison_folder(made).glob("made-*")), [])
        self.assertIn("peal", self.page(reverse("compare:index")))

    def test_a_preview_is_what_the_batch_then_makes_sample_for_sample(self) -> None:
        """With its level, its ends and its coding: the excerpt lies in the result at the very same samples."""
        path = self.source / "peal.wav"
        sound, _ = soundfile.read(path, always_2d=True)
        soundfile.write(path, np.concatenate([np.zeros((30_000, 2)), sound * 0.3, np.zeros((9_000, 2))]), 44_100)
        self.scan()
        self.pull_all()
        words = {"level": "track", "ends": "trim"}
        for target in ("course", "archive-flac", "car-mp3"):
            page = self.page(reverse("batches:forecast"), target=target, **words)
            (address,) = re.findall(r'href="([^"]*like=forecast[^"]*)"', page)
            page = self.page(html.unescape(address))
            self.assertIn(f'value="forecast:{target}" checked', page)
            sent = QueryDict(html.unescape(address).partition("?")[2]).dict()
            self.make(f"forecast:{target}", **sent | {"start": 0})
            made = Comparison.objects.latest("pk")
            self.assertEqual([voice["error"] for voice in made.found], ["", ""])
            self.assertFalse(made.matches_levels)
            self.client.post(reverse("batches:start"), {"target": target, **words})
            self.work()
            item = Item.objects.latest("pk")
            self.assertEqual(item.state, Item.State.DONE, item.error)
            heard, rate = soundfile.read(plain_file(comparison_folder(made), 1), always_2d=True)
            result = (decoded(Path(item.output)) / 2**31).astype(np.float64)
            result = np.repeat(result, 2, axis=1)[:, :2] if result.shape[1] == 1 else result
            begins = restored_step(item.step, find_target(target)).treatment.start_sample
            self.assertGreater(begins, 25_000)
            there = heard[begins : begins + len(result)]
            self.assertEqual(rate, 44_100)
            self.assertTrue((np.abs(heard[:begins]) < 2**-23).all(), "what is cut off is silence")
            self.assertLess(np.abs(there - result[: len(there)]).max(), 2**-22, target)

    def test_what_cannot_be_compared_is_said(self) -> None:
        for settings, values, words in (
            ((), {}, "Choose one to 6 sounds"),
            (("target:nowhere",), {}, "no longer offered"),
            (("item:99",), {}, "no longer offered"),
            (("target:car-mp3",), {"track": 99}, "Choose a track"),
            (("target:car-mp3",), {"seconds": 400}, "Choose a track"),
        ):
            self.assertIn(words, self.make(*settings, **values))
        self.path.write_bytes(b"")
        self.assertIn("The file changed since it was scanned", self.make("target:car-mp3"))
        self.assertEqual(Comparison.objects.count(), 0)

    def test_old_ones_are_swept_and_can_be_made_again(self) -> None:
        with mock.patch("rumbrel.web.compare.services.make_comparison._MOST_KEPT", 1):
            self.make("target:car-mp3", "way:open-opus:opus-variable-32")
            self.make("target:car-mp3")
        first = Comparison.objects.earliest("pk")
        page = self.page(reverse("compare:comparison", args=[first.pk]))
        self.assertIn("were cleaned up", page)
        self.assertEqual(self.client.get(reverse("compare:sound", args=[first.pk, 0])).status_code, 404)
        self.client.post(reverse("compare:again", args=[first.pk]))
        self.work()
        again = Comparison.objects.latest("pk")
        self.assertEqual(
            [voice.get("key") for voice in again.voices], [None, "target:car-mp3", "way:open-opus:opus-variable-32"]
        )

    def test_a_target_that_refuses_the_track_has_its_sentence(self) -> None:
        with mock.patch("rumbrel.core.workflows.compare.carry_out", side_effect=AssertionError("not in this process")):
            self.make("target:car-mp3")
        self.assertEqual(Job.objects.get(kind="compare").message, "2 sounds made.")


class BlindTests(CompareCase):
    def setUp(self) -> None:
        super().setUp()
        self.make("target:car-mp3", "target:speech-small")
        self.made = Comparison.objects.get()

    def begin(self, **values: object) -> str:
        sent = {"one": 0, "other": 2, "trials": 8, **values}
        return self.client.post(reverse("compare:start-blind", args=[self.made.pk]), sent, follow=True).content.decode()

    def sound(self, test: BlindTest, which: str) -> bytes | None:
        answer = self.client.get(reverse("compare:blind-sound", args=[test.pk, len(test.answers) + 1, which]))
        return answer.content if answer.status_code == 200 else None

    def test_orders_are_hidden_and_answers_are_kept_and_judged(self) -> None:
        voices = [
            b"".join(self.client.get(reverse("compare:sound", args=[self.made.pk, number])).streaming_content)
            for number in range(3)
        ]
        self.begin()
        test = BlindTest.objects.get()
        address, orders = reverse("compare:answer", args=[test.pk]), []
        for number in range(1, 9):
            page = self.page(reverse("compare:blind", args=[test.pk]))
            self.assertIn(f"Trial {number} of 8", page)
            first, second = self.sound(test, "first"), self.sound(test, "second")
            self.assertEqual({first, second}, {voices[0], voices[2]})
            self.assertEqual(len(first), len(second))
            headers = [
                self.client.get(reverse("compare:blind-sound", args=[test.pk, number, which])).headers
                for which in ("first", "second")
            ]
            self.assertEqual(*map(dict, headers), "nothing that is sent tells them apart")
            is_first = first == voices[0]
            orders.append(is_first)
            said = is_first if number != 3 else not is_first
            values = {"number": number, "said": "first" if said else "second"}
            self.client.post(address, values)
            self.client.post(address, values)
            test.refresh_from_db()
            self.assertEqual(len(test.answers), number, "a second press is no second answer")
        self.assertEqual((test.right, test.ended), (7, True))
        page = self.page(reverse("compare:blind", args=[test.pk]))
        self.assert_all_in(("7 of 8 right", "Guessing does as well 4 % of the time", "All trials are over"), page)
        self.assertIsNone(self.sound(test, "first"))
        self.assertEqual(re.findall(r"verdict-(passed|failed)", page).count("failed"), 1)
        record = self.client.get(reverse("compare:blind-json", args=[test.pk])).json()
        self.assertEqual((record["right"], record["one"], record["other"]), (7, "The source", "Speech, small MP3"))
        self.assertAlmostEqual(record["chance_of_guessing"], 9 / 256)
        rows = list(
            csv.DictReader(io.StringIO(self.client.get(reverse("compare:blind-csv", args=[test.pk])).content.decode()))
        )
        self.assertEqual([row["was"] for row in rows], ["the first" if first else "the second" for first in orders])
        self.assertEqual(json.dumps(record["trials"][2]["right"]), "false")

    def test_answers_are_told_at_the_end_where_that_is_asked_for(self) -> None:
        self.begin(tells="end")
        test = BlindTest.objects.get()
        address, page = reverse("compare:blind", args=[test.pk]), ""
        for number in range(1, 9):
            page = self.page(address)
            self.assertNotRegex(page, r"right so far|verdict-|trial-right|trial-wrong|It was")
            self.assertEqual(page.count("trial-answered"), number - 1)
            self.client.post(reverse("compare:answer", args=[test.pk]), {"number": number, "said": "first"})
        page, right = self.page(address), BlindTest.objects.get().right
        self.assertEqual((page.count("trial-right"), page.count("trial-wrong")), (right, 8 - right))
        self.assertEqual((page.count("verdict-passed"), page.count('rect class="is-ours"')), (right, 1))
        self.assertEqual(page.count("<rect"), 9, "a bar for each count from none to all")

    def test_orders_differ_from_trial_to_trial(self) -> None:
        self.begin(trials=30)
        test = BlindTest.objects.get()
        for number in range(1, 31):
            self.client.post(reverse("compare:answer", args=[test.pk]), {"number": number, "said": "first"})
        test.refresh_from_db()
        # One of both missing in 30 fair draws happens twice in a thousand million.
        self.assertEqual({answer["one_first"] for answer in test.answers}, {True, False})

    def test_what_cannot_be_tested_is_said(self) -> None:
        for values in ({"other": 0}, {"other": 9}, {"trials": 9}, {"one": "x"}):
            self.assertIn("Choose two different sounds", self.begin(**values))
        self.assertEqual(BlindTest.objects.count(), 0)
        self.begin()
        test = BlindTest.objects.get()
        for values in ({"number": 2, "said": "first"}, {"number": 1, "said": "neither"}, {}):
            self.client.post(reverse("compare:answer", args=[test.pk]), values)
        test.refresh_from_db()
        self.assertEqual(test.answers, [])
