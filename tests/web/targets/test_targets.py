"""A target's own page, a sample made with it, and targets of the user's own."""

import io
import re
from dataclasses import replace
from unittest import mock

import numpy as np
import soundfile
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from rumbrel.core.errors import TargetError
from rumbrel.core.targets import Target, all_targets, find_target, listed_target
from rumbrel.core.targets.catalogue import shipped_targets
from rumbrel.web.batches.services import start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import Track
from rumbrel.web.targets.own_form import AcceptedForm, TargetForm
from rumbrel.web.targets.rows import hour_rows
from rumbrel.web.targets.services import keep_target, make_sample, target_text
from tests.signals import melody, write_sound
from tests.web.case import WebCase

OWN = """name = "Tour bus, MP3 160"
device = "the bus"
[[accepts]]
codec = "mp3"
containers = ["mp3"]
[make]
encoding = "mp3"
bitrate_kbps = {kbps}
"""


class TargetPageTests(WebCase):
    def test_it_says_what_is_accepted_made_and_what_an_hour_takes(self) -> None:
        self.gather()
        page = self.page(reverse("targets:target", args=["radio-mp3"]))
        self.assert_all_in(
            ("Accepts as is", "exactly 128 kbit/s", "high-pass 10 Hz", "strictly: no tolerance", "An hour of sound"),
            page,
        )
        stands = self.fragment(reverse("targets:stands", args=["radio-mp3"]))
        self.assertEqual(re.findall(r"fit=(\w+)\">([\d,]+)<", stands), [("convert", "2"), ("cannot", "1")])
        self.assertEqual(self.client.get(reverse("targets:target", args=["no-such"])).status_code, 404)

    def test_every_page_says_all_that_is_made(self) -> None:
        for slug, sentence in {
            "archive-flac": "FLAC, at the sample rate of the source, with 16 or 24 bits, in 1 to 8 channels",
            "disc-wav": "WAV, at 44.1 kHz, with 16 bits, in stereo",
            "phone-alaw": "WAV A-law, at 8 kHz, in mono",
            "car-mp3": "MP3 320 kbit/s constant, at 32, 44.1 or 48 kHz, in mono or stereo",
        }.items():
            self.assertIn(sentence, self.page(reverse("targets:target", args=[slug])))
        for found in all_targets():
            self.page(reverse("targets:target", args=[found.slug]))

    def test_an_hour_is_counted_as_the_trade_counts_it(self) -> None:
        """Constant 320 kbit/s: 144 MB (arithmetic); 44.1 kHz, 16 bit, stereo: 635 MB (IEC 60908: 176,400 bytes a second)."""
        mp3 = hour_rows(find_target("car-mp3"))[0]
        self.assertTrue(mp3.exact)
        self.assertAlmostEqual(mp3.size_bytes / 1e6, 144, delta=0.1)
        disc = {row.source: row.size_bytes for row in hour_rows(find_target("disc-wav"))}
        self.assertEqual(set(disc.values()), {3600 * 176_400 + 44})
        flac = hour_rows(find_target("archive-flac"))[0]
        self.assertTrue(flac.least_bytes < flac.size_bytes < flac.most_bytes)
        self.assertLess(flac.size_bytes, 3600 * 176_400)


class SampleTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        sound = np.int16(melody(3, seconds=60)[:, None] * 20_000)
        self.path = write_sound(self.source / "a.flac", sound=np.repeat(sound, 2, axis=1))
        self.scan()
        self.track = Track.objects.get()

    def asked(self, **query: object) -> str:
        return self.fragment(reverse("targets:sample", args=["archive-flac"]), **query)

    def test_twenty_seconds_from_a_place_on_are_made_and_heard(self) -> None:
        page = self.asked(track=self.track.pk, start=30)
        self.assertIn('data-sample-start="30.0" data-sample-end="50.0"', page)
        address = re.search(r'data-sample="([^"]+/sample/[^"]+)"', page)[1]
        answer = self.client.get(address)
        self.assertEqual(answer["Content-Type"], "audio/wav")
        wave = b"".join(answer.streaming_content)
        heard, rate = soundfile.read(io.BytesIO(wave), dtype="int16")
        whole, _ = soundfile.read(self.path, dtype="int16")
        np.testing.assert_array_equal(heard, whole[30 * rate : 50 * rate])

    def test_at_the_end_it_is_the_last_twenty_seconds_and_of_a_short_track_all(self) -> None:
        made = make_sample(track=self.track, target=find_target("car-mp3"), start_seconds=55)
        self.assertAlmostEqual(made.facts.duration_seconds, 20, delta=0.1)
        self.assertLess(made.difference_db or 0, -10)
        write_sound(self.source / "short.flac", 44_100)
        self.scan()
        short = Track.objects.get(relative="short.flac")
        made = make_sample(track=short, target=find_target("car-mp3"), start_seconds=9)
        self.assertAlmostEqual(made.seconds, 1)

    def test_what_cannot_be_is_said_and_old_samples_are_swept(self) -> None:
        self.assertIn("Choose a track", self.asked(track=99, start=0))
        self.assertIn("Choose a track", self.asked(track=self.track.pk, start="x"))
        with mock.patch("rumbrel.web.targets.services.make_sample._MOST_KEPT", 2):
            names = [
                make_sample(track=self.track, target=find_target(slug), start_seconds=0).path
                for slug in ("car-mp3", "open-opus", "archive-flac")
            ]
        self.assertEqual([path.exists() for path in names], [False, True, True])
        for name in (names[0].name, "..", "no.mp3"):
            gone = self.client.get(reverse("targets:sample-sound", args=["car-mp3", name]))
            self.assertEqual((gone.status_code, gone.content), (409, b"This sample is no longer kept. Make it again."))
        self.path.unlink()
        self.assertIn("The file is not there", self.asked(track=self.track.pk, start=0))


class OwnTargetTests(WebCase):
    def keep(self, slug: str, text: str) -> str:
        return self.client.post(reverse("targets:keep", args=[slug]), {"text": text}, follow=True).content.decode()

    def test_a_copy_is_made_edited_used_removed_and_put_back(self) -> None:
        page = self.page(reverse("targets:edit", args=["car-mp3"]))
        self.assertIn("USB stick for the car, MP3 320, own", page)
        page = self.keep("car-mp3", OWN.format(kbps=160).replace("\n", "\r\n"))
        self.assert_all_in(("Tour bus, MP3 160 is kept", "tour-bus-mp3-160"), page)
        self.assertEqual(listed_target("tour-bus-mp3-160").make.settings.bitrate_kbps, 160)
        self.assertEqual(target_text("car-mp3"), target_text("car-mp3").replace("own", "own"))
        self.gather()
        batch = start_batch(track_ids=self.pull_all(), wish=BatchWish(targets=(listed_target("tour-bus-mp3-160"),)))
        self.keep("tour-bus-mp3-160", OWN.format(kbps=192))
        self.work()
        made = next(settings.RUMBREL.results.rglob("*.mp3"))
        self.assertEqual(soundfile.info(made).format, "MP3")
        batch.refresh_from_db()
        self.assertEqual(
            batch.targets[0]["make"]["settings"]["bitrate_kbps"], 160, "what was started goes on as it was"
        )
        self.assertEqual(listed_target("tour-bus-mp3-160").make.settings.bitrate_kbps, 192)
        versions = settings.RUMBREL.targets / "versions" / "tour-bus-mp3-160"
        self.assertIn("bitrate_kbps = 160", (versions / "0001.toml").read_text())
        page = self.client.post(reverse("targets:remove", args=["tour-bus-mp3-160"]), follow=True).content.decode()
        self.assertNotIn("Tour bus", page.split("<main")[1])
        with self.assertRaisesRegex(TargetError, "There is no target"):
            listed_target("tour-bus-mp3-160")
        back = re.search(r'action="(/targets/[^"]+/restore/)"', page)[1]
        self.assertIn("MP3 192 kbit/s", self.client.post(back, follow=True).content.decode())
        self.assertIn("cannot be restored", self.client.post(back, follow=True).content.decode())

    def test_what_another_window_kept_is_replaced_only_when_asked_again(self) -> None:
        self.keep("car-mp3", OWN.format(kbps=160))
        slug = "tour-bus-mp3-160"
        keep, remove = (reverse(f"targets:{name}", args=[slug]) for name in ("keep", "remove"))
        edit, own = reverse("targets:edit", args=[slug]) + "?as=text", reverse("targets:target", args=[slug])
        seen = re.compile(r'name="seen" value="([^"]+)"')
        old = seen.search(self.page(edit))[1]
        self.assertEqual(seen.search(self.page(own).split(f'action="{remove}"')[1])[1], old)
        self.keep(slug, OWN.format(kbps=192))
        mine = {"text": OWN.format(kbps=128), "seen": old}
        page = self.client.post(keep, mine).content.decode()
        self.assert_all_in(("Nothing was saved: another window", "bitrate_kbps = 128"), page)
        self.assertEqual(listed_target(slug).make.settings.bitrate_kbps, 192)
        self.client.post(keep, mine | {"seen": seen.search(page)[1]})
        self.assertEqual(listed_target(slug).make.settings.bitrate_kbps, 128)
        self.assertIn("Nothing was done", self.client.post(remove, {"seen": old}, follow=True).content.decode())
        self.client.post(remove, {"seen": seen.search(self.page(own).split(f'action="{remove}"')[1])[1]})
        page = self.client.post(keep, mine, follow=True).content.decode()
        self.assertIn("is kept", page, "what was typed outlives the removal")
        self.assertEqual(listed_target(slug).make.settings.bitrate_kbps, 128)

    def test_what_cannot_be_is_refused_with_its_line_and_nothing_typed_is_lost(self) -> None:
        for text, words in (
            (OWN.format(kbps=161), "161"),
            (OWN.format(kbps='"x"'), "bitrate_kbps"),
            ("name = ", "not valid TOML"),
            (OWN.format(kbps=160) + "sparkle = 1\n", "sparkle"),
        ):
            page = self.keep("car-mp3", text)
            self.assertIn(words, page.split('role="alert">')[1].split("</p>")[0])
            self.assertIn(text.splitlines()[-1].replace('"', "&quot;"), page)
        self.assertEqual(all_targets(), shipped_targets())
        with self.assertRaisesRegex(TargetError, "stay as they are"):
            keep_target(text=OWN.format(kbps=160), slug="car-mp3")

    def test_a_file_is_taken_and_given_back_and_names_are_never_shared(self) -> None:
        for slug in ("tour-bus-mp3-160", "tour-bus-mp3-160-2"):
            file = SimpleUploadedFile("mine.toml", OWN.format(kbps=160).encode())
            page = self.client.post(reverse("targets:add"), {"file": file}, follow=True)
            self.assertEqual(page.redirect_chain[-1][0], reverse("targets:target", args=[slug]))
        text = self.client.get(reverse("targets:text", args=[slug]))
        self.assertEqual(text.content.decode(), OWN.format(kbps=160))
        bad = SimpleUploadedFile("mine.toml", b"\xff\xfe")
        refused = self.client.post(reverse("targets:add"), {"file": bad}, follow=True).content.decode()
        self.assertIn("not written in UTF-8", refused)
        (settings.RUMBREL.targets / "broken.toml").write_text("name = ")
        (settings.RUMBREL.targets / "car-mp3.toml").write_text(OWN.format(kbps=160))
        page = self.page(reverse("targets:index"))
        self.assert_all_in(("not valid TOML", "is passed over", "your own"), page)
        self.assertEqual(find_target("car-mp3").make.settings.bitrate_kbps, 320)

    def test_a_page_of_the_web_reads_no_file_that_an_address_names(self) -> None:
        path = self.source / "elsewhere.toml"
        path.write_text(OWN.format(kbps=160))
        self.assertEqual(find_target(str(path)).name, "Tour bus, MP3 160")
        page = self.client.get(reverse("batches:forecast"), {"target": str(path)}, follow=True).content.decode()
        self.assertIn("There is no target", page)


class FormTests(WebCase):
    """The form for a target in the trade's terms."""

    def sent(self, target: Target, **changed: object) -> dict[str, object]:
        """What a browser sends of the form as it is shown."""
        values = TargetForm.values_of(target) | changed
        for number, row in enumerate(target.accepts):
            values |= {f"accepts{number}-{name}": value for name, value in AcceptedForm.values_of(row).items()}
        return {name: value for name, value in values.items() if value not in (None, False, "")}

    def test_every_target_goes_through_the_form_and_comes_out_as_it_was(self) -> None:
        for target in shipped_targets():
            with self.subTest(target=target.slug):
                page = self.page(reverse("targets:edit", args=[target.slug]))
                named = set(re.findall(r'name="([a-z0-9_-]+)"', page))
                sent = self.sent(target, name=f"{target.name}, own")
                settled = {"bit_depths", "id3", "channels", "dither"}
                self.assertEqual(set(sent) - named - settled, set(), "the page shows every field that it needs")
                sent = {name: value for name, value in sent.items() if name in named}
                answer = self.client.post(reverse("targets:keep", args=[target.slug]), sent)
                self.assertEqual(answer.status_code, 302, answer.content.decode()[-3000:] if answer.content else "")
                slug = answer["Location"].strip("/").rpartition("/")[2]
                self.assertEqual(replace(listed_target(slug), slug=target.slug, name=target.name), target)

    def test_only_what_the_encoder_has_is_offered_and_refusals_stand_beside_their_fields(self) -> None:
        car = find_target("car-mp3")
        offered = self.client.post(
            reverse("targets:offered", args=["car-mp3"]), self.sent(car, encoding="flac")
        ).content.decode()
        self.assertNotIn('name="bitrate_kbps"', offered)
        self.assertNotIn('name="joint_stereo"', offered)
        self.assert_all_in(('name="effort"', 'name="bit_depths"', "USB stick for the car"), offered)
        self.assertIn('name="joint_stereo"', self.page(reverse("targets:edit", args=["car-mp3"])))
        for changed, field, words in (
            ({"joint_stereo": "on"}, "joint_stereo", "only for 2 channels below 160"),
            ({"mode": "variable"}, "quality", "led by quality"),
            ({"bitrate_kbps": "321"}, "bitrate_kbps", "not one of the available choices"),
            ({"pattern": "{sparkle}"}, "pattern", "no field"),
            ({"highpass_hz": "9000"}, "highpass_hz", "less than or equal to 2000"),
            ({"accepts0-sample_rates": "44,1 kHz"}, "accepts0-sample_rates", "with commas between them"),
        ):
            with self.subTest(changed=changed):
                page = self.client.post(
                    reverse("targets:keep", args=["car-mp3"]), self.sent(car) | changed
                ).content.decode()
                beside = page.split(f'id="id_{field}"')[1].split("</td>")[0]
                self.assertRegex(beside, f"errorlist.*{words}")
        page = self.client.post(
            reverse("targets:keep", args=["car-mp3"]), self.sent(car) | {"accepts0-codec": ""}
        ).content.decode()
        self.assertRegex(page, 'role="alert"><ul class="errorlist.*accepts')
        self.assertEqual(all_targets(), shipped_targets())

    def test_names_are_shown_as_the_pattern_is_typed(self) -> None:
        self.gather()
        address = reverse("targets:names", args=["car-mp3"])
        shown = self.fragment(address, pattern="{codec}/{number:02} {stem}", file_system="fat32")
        self.assert_all_in(("flac/01 peal (b).mp3", "pcm/"), shown)
        self.assertIn("has no field", self.fragment(address, pattern="{sparkle}"))
        self.assertIn("There is no file system", self.fragment(address, file_system="tape"))
