"""One track: heard by parts, looked at in the background, its findings kept as facts."""

import email
import email.policy
import io
import json
import os
import shutil
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
import soxr
from django.conf import settings
from django.urls import reverse

from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.forecast.ledger import Entry, ResultLedger
from rumbrel.web.collection.models import DeepLook, Facet, LookWork, Track
from rumbrel.web.collection.services import start_looks, start_scan, sweep_pictures
from rumbrel.web.jobs.models import Job
from tests.core.sound.test_frame_grid import lossy
from tests.marks import slow
from tests.signals import convert_one, music, write_framed, write_sound
from tests.web.case import WebCase


class SoundTests(WebCase):
    def ask(self, track: Track, asked: str | None, **query: str):  # type: ignore[no-untyped-def]
        headers = {} if asked is None else {"Range": asked}
        return self.client.get(reverse("collection:sound", args=[track.pk]), query, headers=headers)

    def test_a_file_comes_by_parts_as_it_is(self) -> None:
        """RFC 9110, 14.1.2 and 15.5.17."""
        path = write_sound(self.source / "a.flac", 400_000)
        self.scan()
        track, raw = Track.objects.get(), path.read_bytes()
        size = len(raw)
        self.assertGreater(size, 1 << 20)
        for asked, first, end in (
            ("bytes=0-", 0, 1 << 20), ("bytes=10-19", 10, 20), (f"bytes={size - 5}-", size - 5, size), ("bytes=-7", size - 7, size),
            (f"bytes=5-{size * 2}", 5, 5 + (1 << 20)),
        ):  # fmt: skip
            with self.subTest(asked=asked):
                answer = self.ask(track, asked)
                self.assertEqual((answer.status_code, answer["Content-Type"]), (206, "audio/flac"))
                self.assertEqual(answer["Content-Range"], f"bytes {first}-{end - 1}/{size}")
                self.assertEqual(answer.content, raw[first:end])
        for asked in (f"bytes={size}-", "bytes=-0"):
            answer = self.ask(track, asked)
            self.assertEqual((answer.status_code, answer["Content-Range"]), (416, f"bytes */{size}"), asked)
        # What is no valid range is passed over (14.2), as is one of what the file was before (13.1.5).
        for asked in (
            None,
            "bytes=9-3",
            "bytes=",
            "bytes=a-b",
            "lines=1-2",
            "bytes=1-2,x",
            "bytes 1-2",
            f"bytes={'9' * 40}-",
        ):
            whole = self.ask(track, asked)
            self.assertEqual((whole.status_code, b"".join(whole.streaming_content)), (200, raw), asked)
        address, tag = reverse("collection:sound", args=[track.pk]), whole["ETag"]
        for before, status in ((tag, 206), ('"other"', 200)):
            answer = self.client.get(address, headers={"Range": "bytes=0-9", "If-Range": before})
            self.assertEqual(answer.status_code, status)
        several = self.ask(track, f"bytes=0-4, 10-19,-3,{size}-")
        self.assertTrue(several["Content-Type"].startswith("multipart/byteranges; boundary="))
        message = email.message_from_bytes(
            b"Content-Type: " + several["Content-Type"].encode() + b"\r\n\r\n" + several.content,
            policy=email.policy.HTTP,
        )
        parts = [(part["Content-Range"], part.get_payload(decode=True)) for part in message.iter_parts()]
        wanted = ((0, 5), (10, 20), (size - 3, size))
        self.assertEqual(parts, [(f"bytes {a}-{b - 1}/{size}", raw[a:b]) for a, b in wanted])

    def test_what_browsers_do_not_play_comes_decoded(self) -> None:
        write_framed(self.source / "a.wma", "wmav2", muxer="asf", rate=44_100, seconds=3)
        self.scan()
        track, pieces, total = Track.objects.get(), b"", 1
        while len(pieces) < total:
            answer = self.ask(track, f"bytes={len(pieces)}-")
            self.assertEqual((answer.status_code, answer["Content-Type"]), (206, "audio/wav"))
            total = int(answer["Content-Range"].partition("/")[2])
            pieces += answer.content
        self.assertEqual(soundfile.info(io.BytesIO(pieces)).frames, track.samples)

    def test_a_file_that_is_another_one_or_gone_is_said(self) -> None:
        path = write_sound(self.source / "a.flac")
        self.scan()
        track = Track.objects.get()
        os.utime(path, ns=(1, 1))
        answer = self.ask(track, "bytes=0-")
        self.assertEqual(
            (answer.status_code, answer.content.decode()),
            (409, "The file changed since it was scanned. Scan its folder again."),
        )
        outside = self.folder / "elsewhere.flac"
        path.rename(outside)
        path.symlink_to(outside)
        self.assertIn("outside the allowed folders", self.ask(track, "bytes=0-").content.decode())
        path.unlink()
        self.assertIn("Connect its disk", self.ask(track, "bytes=0-").content.decode())


class LookTests(WebCase):
    def raised(self, name: str) -> Path:
        """96 kHz made of 44.1 kHz: nothing above 22.05 kHz."""
        wide = soxr.resample(music(44_100 * 4), 44_100, 96_000, quality="VHQ")
        return write_sound(self.source / name, sound=wide, rate=96_000, subtype="PCM_24")

    def test_findings_become_facts_and_stay_after_a_rescan(self) -> None:
        path = self.raised("raised.flac")
        self.scan()
        track = Track.objects.get()
        self.assertEqual(track.fault, "")
        page = self.page(reverse("collection:track", args=[track.pk]))
        self.assertIn(f'hx-post="{reverse("collection:start-look", args=[track.pk])}" hx-trigger="load"', page)
        self.client.post(reverse("collection:start-look", args=[track.pk]), headers={"HX-Request": "true"})
        self.client.post(reverse("collection:start-look", args=[track.pk]), headers={"HX-Request": "true"})
        self.assertEqual(LookWork.objects.count(), 1, "a second press makes no second look")
        self.assertIn("Waiting.", self.fragment(reverse("collection:look", args=[track.pk])))
        (job,) = self.work()
        self.assertEqual((job.state, job.message), ("done", "1 track analysed, new faults in 1."))
        found = self.fragment(reverse("collection:look", args=[track.pk]))
        for text in ("data-ready", " kHz", "raised from 44.1 kHz", "nothing clips", DeepLook.objects.get().digest):
            self.assertIn(text, found)
        self.assertIn("Doubtful lossless", self.page(reverse("collection:track", args=[track.pk])))
        self.assertEqual(Facet.objects.get(fault="doubtful-lossless").tracks, 1)
        Track.objects.update(facts_version=0)
        start_scan(folder=track.folder)
        self.work()
        self.assertEqual(Track.objects.get().fault, "doubtful-lossless", "what was read anew has what the look showed")
        write_sound(path, sound=music(50_000), subtype="PCM_24")
        start_scan(folder=track.folder)
        self.work()
        self.assertEqual(Track.objects.get().fault, "", "another file of the name is not what was looked at")
        self.assertIn(">Analyse<", self.fragment(reverse("collection:look", args=[track.pk])))

    def test_a_result_made_here_of_a_lossy_file_is_not_accused_of_it(self) -> None:
        lossy_sound = lossy("mp3", 44_100, EncoderSettings(bitrate_kbps=128))
        made = write_sound(self.source / "made.flac", sound=lossy_sound)
        write_sound(self.source / "other.flac", sound=lossy_sound)
        source = self.folder / "source.mp3"
        first = write_sound(self.folder / "first.wav", 60_000)
        shutil.copy(convert_one(first, "radio-mp3", self.folder / "out").step.output, source)
        status = made.stat()
        ledger = ResultLedger.for_destination(settings.RUMBREL.ledger, self.source)
        settings.RUMBREL.ledger.mkdir(parents=True)
        entry = Entry(
            source=str(source), source_bytes=1, source_ns=1, work="", output=str(made),
            output_bytes=status.st_size, output_ns=status.st_mtime_ns,
        )  # fmt: skip
        ledger.add(entry)
        self.scan()
        tracks = {track.relative: track for track in Track.objects.all()}
        start_looks(track_ids=[track.pk for track in tracks.values()])
        self.work()
        pages = {name: self.fragment(reverse("collection:look", args=[track.pk])) for name, track in tracks.items()}
        for name, page in pages.items():
            self.assertIn("frames of 576 samples still show at 0:", page, name)
            self.assertIn('data-traced="frames of MP3"', page)
        faults = {name: Track.objects.get(pk=track.pk).fault for name, track in tracks.items()}
        self.assertEqual(faults["made.flac"], "")
        self.assertEqual(faults["other.flac"], "doubtful-lossless")
        self.assertIn("of source.mp3", pages["made.flac"])
        self.assertNotIn("warn", pages["made.flac"])
        # A source that passes for lossless answers nothing.
        ledger.add(replace(entry, source=str(first)))
        DeepLook.objects.all().delete()
        start_looks(track_ids=[tracks["made.flac"].pk])
        self.work()
        self.assertEqual(Track.objects.get(relative="made.flac").fault, "doubtful-lossless")

    def test_a_disk_that_is_not_there_costs_no_facts(self) -> None:
        path = write_sound(self.source / "a.wav", 60_000)
        self.scan()
        track = Track.objects.get()
        path.rename(self.folder / "a.wav")
        start_looks(track_ids=[track.pk])
        (job,) = self.work()
        self.assertEqual(job.message, "0 tracks analysed, 1 could not be.")
        self.assertIn("Connect its disk", self.fragment(reverse("collection:look", args=[track.pk])))
        kept = Track.objects.get()
        self.assertEqual((kept.samples, kept.fault, kept.usable), (60_000, "", True))
        (self.folder / "a.wav").rename(path)
        self.client.post(reverse("collection:start-look", args=[track.pk]))
        self.work()
        self.assertIn("data-ready", self.fragment(reverse("collection:look", args=[track.pk])))

    def test_the_picture_of_a_stretch(self) -> None:
        sound = np.zeros((44_100 * 10, 2))
        sound[44_100 * 4] = 0.5
        write_sound(self.source / "click.wav", sound=sound)
        self.scan()
        track = Track.objects.get()
        address = reverse("collection:picture", args=[track.pk])
        self.assertEqual(self.client.get(address).status_code, 404)
        start_looks(track_ids=[track.pk])
        self.work()
        whole = json.loads(self.page(address, columns=100))
        self.assertEqual((len(whole["highs"]), whole["highs"].index(max(whole["highs"]))), (100, 40))
        self.assertEqual((whole["top_hz"], whole["bands"], whole["floor"]), (22_050, 96, -120))
        self.assertEqual(max(json.loads(self.page(address, start=4.5, end=9, columns=100))["highs"]), 0)
        odd = json.loads(self.page(address, start=8, end=2, columns=-3))
        self.assertEqual(len(odd["highs"]), 1000, "what cannot be is the whole")

    def test_several_at_once_stopped_and_gone_on_with(self) -> None:
        for number in range(3):
            write_sound(self.source / f"{number}.wav", 60_000, seed=number)
        (self.source / "empty.wav").touch()
        self.scan()
        ids = self.pull_all()
        (self.source / "2.wav").unlink()
        start_scan(folder=Track.objects.first().folder)
        self.work()
        self.client.post(reverse("collection:look-at-pulled"))
        job = Job.objects.get(kind="look")
        with mock.patch("rumbrel.web.collection.services.look_at_tracks.look_at_tracks", side_effect=OSError("gone")):
            self.work()
        job.refresh_from_db()
        self.assertEqual(job.state, "failed")
        self.client.post(reverse("jobs:continue", args=[job.pk]))
        self.work()
        job.refresh_from_db()
        self.assertEqual((job.state, job.message), ("done", "3 tracks analysed, 1 not there."))
        self.assertEqual({path.stem for path in settings.RUMBREL.pictures.iterdir()}, {str(pk) for pk in ids[:2]})
        start_looks(track_ids=ids)
        (again,) = self.work()
        self.assertIn("2 before", again.message)
        self.assertEqual(sweep_pictures(), 0)
        Track.objects.get(pk=ids[0]).delete()
        self.assertEqual(
            (sweep_pictures(), {path.stem for path in settings.RUMBREL.pictures.iterdir()}), (1, {str(ids[1])})
        )

    def test_where_a_track_went_is_on_its_page(self) -> None:
        write_sound(self.source / "a.wav", 60_000)
        self.scan()
        (pk,) = self.pull_all()
        self.client.post(reverse("playlists:make"))
        self.client.post(reverse("batches:start"), {"target": "archive-flac"})
        self.work()
        page = self.page(reverse("collection:track", args=[pk]))
        for text in ("Made from it", "results/archive-flac/source/a.flac", "In lists"):
            self.assertIn(text, page)


@slow
class LongLookTests(WebCase):
    def test_level_of_a_silent_track_is_said_in_words(self) -> None:
        write_sound(self.source / "still.wav", sound=np.zeros((44_100 * 2, 2)))
        self.scan()
        track = Track.objects.get()
        start_looks(track_ids=[track.pk])
        self.work()
        self.assertIn("silence", self.fragment(reverse("collection:look", args=[track.pk])))
