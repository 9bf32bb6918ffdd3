"""What must hold whoever asks, on every page: methods, forgery, other hosts, paths outside, pages for errors."""

from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import OperationalError
from django.test import Client, RequestFactory
from django.urls import URLPattern, URLResolver, get_resolver, reverse

from rumbrel.core.disc.design import left_out
from rumbrel.core.tags.wishes import TagWish
from rumbrel.core.targets import find_target
from rumbrel.web.accounts.services import make_account
from rumbrel.web.batches.models import Batch
from rumbrel.web.batches.services import keep_in_step, start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.bench.services import (
    copy_disc_in,
    make_delivery,
    put_disc_in,
    put_into_player,
    stand_in_volumes,
    track_file,
)
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.collection.services import keep_view, start_looks
from rumbrel.web.compare.services import start_comparison, start_test
from rumbrel.web.discs.models import Disc
from rumbrel.web.discs.services import change_disc, lay_out_list, put_in, start_write
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.watch import beat
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.services import make_playlist
from rumbrel.web.settings import base
from rumbrel.web.settings.ours import secret_key
from rumbrel.web.tags.services import start_edit
from rumbrel.web.targets.services import HeldFile, keep_target, make_sample, start_holding, target_text
from rumbrel.web.ui.middleware import bodiless_head
from rumbrel.web.ui.roles import Role
from tests.web.case import WebCase


def patterns(resolver: URLResolver, space: str = "") -> list[tuple[str, URLPattern]]:
    """Every address of the application with its name, from the resolver itself."""
    found: list[tuple[str, URLPattern]] = []
    for each in resolver.url_patterns:
        if isinstance(each, URLResolver):
            found += patterns(each, f"{each.namespace}:" if each.namespace else space)
        else:
            found.append((f"{space}{each.name}", each))
    return found


_OF_FOLDERS = (
    "subfolders",
    "scan", "stop-scan", "believe-loss", "missing", "checksums", "remove-missing", "rename-folder", "remove-folder", "folder-removed",
    "plan-fixity", "watch-folder",
)  # fmt: skip


_OF_VOLUMES = (
    "volume", "change-volume", "plug", "look-volume", "format", "format-anew", "remove-volume", "make-delivery", "put-right",
)  # fmt: skip
_OF_DELIVERIES = ("delivery", "delivery-state", "start-delivery", "stop-delivery", "leave-out", "take-back")
_OF_OWN_TARGETS = ("targets:remove", "targets:put-back", "targets:keep")


_OF_BLIND_TESTS = ("compare:blind", "compare:blind-sound", "compare:answer", "compare:blind-csv", "compare:blind-json")


_OTHERS = {"drive": "clean", "recorder": "quick", "piece": "inlay", "form": "svg"}
_NAMES = {"ui:guide-picture": "batch.png", "discs:act": "gap", "discs:tray": "put-in", "playlists:act": "turn"}


_SLUGS = {"ui:guide-page": "see"}
_OWN_FORMS = ("accounts:sign-in", "accounts:first", "accounts:password")
"""The framework's way: a page and its form are one address. tests.web.accounts asks them."""


class SafetyCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.gather()
        self.pull_all()
        self.playlist = make_playlist(name="List", track_ids=pulled_ids())
        self.disc = lay_out_list(playlist=self.playlist)
        self.batch = start_batch(track_ids=pulled_ids(), wish=BatchWish(targets=(find_target("archive-flac"),)))
        self.work()
        self.batch.refresh_from_db()

    def furnish(self) -> None:
        """Something of every kind that has a page."""
        broken = [track.key for track in self.disc.design.tracks if Track.objects.get(pk=track.source_id).fault]
        change_disc(disc_id=self.disc.pk, change=lambda design: left_out(design, broken, True), said="what is empty")
        put_in(recorder="quick", shelf_key="80")
        start_write(disc=Disc.objects.get(pk=self.disc.pk))
        self.own = keep_target(text=target_text("car-mp3"))
        track = Track.objects.get(relative="a/peal <b>.flac")
        self.sample = make_sample(track=track, target=find_target("car-mp3"), start_seconds=0).path.name
        self.view = keep_view(name="Bells <b>", query="format=WAV")
        self.edit = start_edit(track_ids=pulled_ids(), wish=TagWish(values={"genre": "Bells <b>"}))
        self.work()
        self.kept = keep_in_step(batch=self.batch)
        held = [HeldFile(title="Bells <b>", path=str(self.source / "a" / "peal <b>.flac"), seconds=1)]
        self.check = start_holding(target=find_target("radio-mp3"), files=held)
        self.compared = start_comparison(track=track, settings_chosen=["target:car-mp3"], start_seconds=0, seconds=10)
        self.work()
        self.compared.refresh_from_db()
        self.taken = put_disc_in(drive="clean", disc_key=f"disc:{self.disc.pk}")
        track_file(self.taken, 1).parent.mkdir(parents=True)
        track_file(self.taken, 1).write_bytes(b"RIFF")
        put_in(recorder="quick", shelf_key="80")
        self.copy = copy_disc_in(drive="clean")
        put_into_player(disc_key=f"disc:{self.disc.pk}")
        self.volume = stand_in_volumes()[0]
        self.delivery = make_delivery(row=self.volume, source=f"playlist:{self.playlist.pk}")
        self.work()
        self.account = make_account(name="Orrel", password="eight bells ring rounds", role=Role.ADMINISTER)
        beat()
        self.blind = start_test(comparison=self.compared, one=0, other=1, trials=8)

    def addresses(self) -> dict[str, str]:
        """Every address, with the number of something that is there."""
        self.furnish()
        item = self.batch.items.filter(state="done").first()
        track = Track.objects.first().pk
        numbers = {
            **dict.fromkeys(
                (f"collection:{name}" for name in _OF_FOLDERS),
                SourceFolder.objects.get().pk,
            ),
            "batches:download": item.pk, "discs:lay-out": self.playlist.pk,
            **dict.fromkeys(_OF_BLIND_TESTS, self.blind.pk),
            "batches:track": track, "batches:track-chosen": track, "batches:step": self.kept.pk,
            "batches:keep-no-more": self.kept.pk, "targets:specification": self.check.pk,
            "collection:remove-view": self.view.pk, "collection:restore-view": self.view.pk,
            **dict.fromkeys((f"bench:{name}" for name in _OF_VOLUMES), self.volume.pk),
            **dict.fromkeys((f"bench:{name}" for name in _OF_DELIVERIES), self.delivery.pk),
            **dict.fromkeys(("discs:copy", "discs:copy-state", "discs:stop-copy"), self.copy.pk),
            **dict.fromkeys(("accounts:change", "accounts:set-password"), self.account.pk),
            "accounts:lift": 1, "batches:digest-days": self.kept.pk,
        }  # fmt: skip
        usual = {
            "collection": Track.objects.get(relative="a/peal <b>.flac").pk, "batches": self.batch.pk,
            "playlists": self.playlist.pk, "discs": self.disc.pk, "jobs": Job.objects.first().pk, "tags": self.edit.pk, "compare": self.compared.pk,
            "bench": self.taken.pk,
        }  # fmt: skip
        found = {}
        for name, pattern in patterns(get_resolver()):
            if name in _OWN_FORMS:
                continue
            parameters = pattern.pattern.converters
            values: dict[str, object] = {}
            if "pk" in parameters:
                values["pk"] = numbers.get(name, usual.get(name.split(":")[0]))
            if "kind" in parameters:
                values["kind"] = "bin"
            if "number" in parameters:
                values["number"] = int(name in _OF_BLIND_TESTS or name in ("discs:played", "bench:keep", "bench:heard"))
            if "part" in parameters:
                values["part"] = "1"
            if "which" in parameters:
                values["which"] = "first"
            if "slug" in parameters:
                values["slug"] = self.own.slug if name in _OF_OWN_TARGETS else _SLUGS.get(name, "car-mp3")
            if "name" in parameters:
                values["name"] = _NAMES.get(name, self.sample)
            if "key" in parameters:
                values["key"] = 1
            values |= {name: each for name, each in _OTHERS.items() if name in parameters}
            found[name] = reverse(name, kwargs=values)
        return found


class ZoneTests(WebCase):
    def test_times_are_those_of_the_users_clock(self) -> None:
        at = datetime(2026, 7, 1, 22, 30, tzinfo=UTC)
        folder = SourceFolder.objects.create(path=str(self.source))
        Job.objects.create(kind="scan", subject=folder.pk, state="done", message="read")
        Job.objects.update(ended_at=at, created_at=at, started_at=at)
        for zone, shown in (
            ("", "22:30"),
            ("Asia/Kolkata", "04:00"),
            ("../../etc/passwd", "22:30"),
            ("Mars/Base", "22:30"),
        ):
            self.client.cookies["zone"] = zone
            self.assertIn(shown, self.page(reverse("jobs:work")), zone)


_OTHERWISE = {"collection:cover": 409, "discs:seam": 409, "batches:keep-before": 301}
"""Answers of addresses that have nothing to show of the made-up rows, or that moved."""


class MethodTests(SafetyCase):
    def test_every_address_takes_one_method_and_nothing_changes_without_the_token(self) -> None:
        start_looks(track_ids=pulled_ids())
        self.work()
        strict, changing = Client(enforce_csrf_checks=True), 0
        for name, address in self.addresses().items():
            if name in ("discs:image", "discs:preview"):
                # A file that is sent, and what needs a disc that runs over.
                continue
            response = self.client.get(address)
            if response.status_code == 405:
                changing += 1
                self.assertEqual(strict.post(address).status_code, 403, name)
            else:
                # The track has no picture, and none before it on its disc.
                self.assertEqual(response.status_code, _OTHERWISE.get(name, 200), name)
                self.assertEqual(self.client.post(address).status_code, 405, name)
        self.assertGreaterEqual(changing, 20)

    def test_pages_are_strict_escaped_whole_and_load_nothing_from_elsewhere(self) -> None:
        for name, address in self.addresses().items():
            response = self.client.get(address)
            if response.status_code != 200 or response.streaming or response["Content-Type"].startswith("audio/"):
                continue
            text = response.content.decode()
            policy = response["Content-Security-Policy"]
            self.assertIn("default-src 'none'", policy, name)
            self.assertNotIn("unsafe", policy, name)
            self.assertNotRegex(text, r"(<[^>]* (style|on\w+)=)|<script>", name)
            self.assertNotIn("<b>.flac", text, name)
            self.assertNotRegex(text, r'(src|href|action)="(https?:)?//', name)
            if "<html" in text:
                self.assertRegex(text, r"<title>[^<]+ · Rumbrel</title>", name)
                self.assertEqual(text.count("<h1"), 1, name)
                self.assertNotRegex(text, r"<th[^>]*></th>", name)

    def test_other_hosts_and_frames_are_refused(self) -> None:
        self.assertEqual(self.client.get("/", headers={"host": "example.org"}).status_code, 400)
        response = self.client.get("/")
        self.assertEqual(response["X-Frame-Options"], "DENY")
        self.assertEqual(response["X-Content-Type-Options"], "nosniff")
        self.assertIn("frame-ancestors 'none'", response["Content-Security-Policy"])

    def test_the_hosts_of_the_tests_are_not_those_of_use(self) -> None:
        self.assertNotIn("testserver", base.ALLOWED_HOSTS)


class ForeignTests(SafetyCase):
    def test_what_another_sites_page_asks_for_is_not_done(self) -> None:
        """Fetch Metadata Request Headers (W3C), Sec-Fetch-Site."""
        for site, status in (("cross-site", 403), ("same-site", 403), ("same-origin", 200), ("none", 200)):
            for address in ("/", "/where/?tracks=all"):
                response = self.client.get(address, headers={"Sec-Fetch-Site": site})
                self.assertEqual(response.status_code, status, (site, address))
        before = Job.objects.count()
        scan = reverse("collection:scan", args=[SourceFolder.objects.get().pk])
        self.assertEqual(self.client.post(scan, headers={"Sec-Fetch-Site": "cross-site"}).status_code, 403)
        self.assertEqual(Job.objects.count(), before)
        followed = {"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "navigate", "Sec-Fetch-Dest": "document"}
        self.assertEqual(self.client.get("/work/", headers=followed).status_code, 200, "a link that somebody follows")
        self.assertEqual(self.client.post(scan, headers=followed).status_code, 403)
        framed = followed | {"Sec-Fetch-Dest": "iframe"}
        self.assertEqual(self.client.get("/work/", headers=framed).status_code, 403)
        page = self.client.get("/work/?page=1", headers={"Sec-Fetch-Site": "cross-site"}).content.decode()
        self.assert_all_in(("a page of another site", 'href="/work/?page=1"'), page)

    def test_an_answer_to_head_is_its_headers_alone(self) -> None:
        """RFC 9110, 9.3.2."""
        for name, address in self.addresses().items():
            if (whole := self.client.get(address)).status_code != 200:
                continue
            request = RequestFactory().head(address)
            request.session, request.htmx = {}, False
            response = bodiless_head(lambda request, whole=whole: whole)(request)
            self.assertFalse(response.streaming, name)
            self.assertEqual(response.content, b"", name)
            self.assertEqual(response["Content-Type"], whole["Content-Type"], name)
        self.assertEqual(self.client.head("/").status_code, 200)


class InputTests(SafetyCase):
    """What no browser of ours sends: a page that says what is wrong, or does without it; never a trace."""

    def test_numbers_that_cannot_be(self) -> None:
        self.client.raise_request_exception = True
        for number in ("0", "9" * 19, "9" * 25, "9" * 5_000):
            for name in ("track", "panel"):
                address = reverse(f"collection:{name}", args=[1]).replace("/1/", f"/{number}/")
                self.assertEqual(self.client.get(address).status_code, 404, number[:30])
            for address in (f"/batches/{number}/progress/", f"/discs/{number}/", f"/playlists/{number}/"):
                self.assertEqual(self.client.get(address).status_code, 404, address[:40])
            for address in (f"/work/{number}/stop/", f"/folders/{number}/scan/", f"/entries/{number}/move/"):
                self.assertEqual(self.client.post(address).status_code, 404, address[:40])
        for query in (
            {"after": "9" * 25}, {"before": "-1"}, {"folder": "9" * 5_000}, {"rate": "9" * 30}, {"rate": "1e9"},
            {"order": "no such"}, {"fault": "no such"}, {"folder": "\0"}, {"text": "\0"}, {"text": "*"}, {"text": '"'},
        ):  # fmt: skip
            self.assertIn("of 3 tracks", self.page("/", **query) + " of 3 tracks" * ("text" in query), query)
            self.fragment(reverse("collection:rows"), **query)
        for page in ("0", "-1", "x", "9" * 5_000, "1.5"):
            for address in ("/work/", "/batches/", f"/playlists/{self.playlist.pk}/", "/where/", "/batches/forecast/"):
                self.page(address, page=page)
        for since in ("-1", "9" * 30, "x"):
            self.fragment(f"/batches/{self.batch.pk}/progress/", since=since, first=since, last=since)
        self.fragment(reverse("jobs:head"), watched=f"{'9' * 30},x,,-1,1")

    def test_a_search_of_very_many_words(self) -> None:
        self.assertIn("longer than 400 characters", self.page("/", text="x" * 60_000))
        self.assertIn("longer than 400 characters", self.page("/", text="bell " * 2_000))
        self.assertIn("No matching tracks", self.page("/", text="zz q " * 70))

    def test_long_and_odd_names(self) -> None:
        for name in ("n" * 256, "🔔" * 256, "\0", "../..", " ", "a/b", "CON"):
            page = self.client.post(reverse("playlists:make"), {"name": name}, follow=True)
            self.assertEqual(page.status_code, 200, name[:20])
        self.assertLessEqual(max(len(each.name) for each in Playlist.objects.all()), 200)
        data = (self.source / "a" / "peal <b>.flac").read_bytes()
        for name in ("n" * 256 + ".flac", "音" * 250 + ".flac", "x." + "y" * 250, ".flac"):
            with self.subTest(name=name[:20]):
                file = SimpleUploadedFile("x", data + name.encode())
                file._name = name
                page = self.client.post(reverse("collection:drop"), {"files": [file]}, follow=True)
                self.assertIn("1 file added", page.content.decode())
        page = self.client.post(reverse("collection:drop"), {"files": [SimpleUploadedFile("x", data)]}, follow=True)
        self.assertIn("0 files added", page.content.decode(), "which is there already")
        self.assertEqual(len([p for p in settings.RUMBREL.dropped.iterdir() if p.stat().st_size > len(data)]), 4)

    def test_a_hundred_and_one_files_at_once_are_no_matter(self) -> None:
        files = [SimpleUploadedFile(f"{n}.wav", b"x") for n in range(101)]
        page = self.client.post(reverse("collection:drop"), {"files": files}, follow=True).content.decode()
        self.assertIn("101 files added", page)


class PathTests(SafetyCase):
    def test_results_outside_their_destination_are_never_sent(self) -> None:
        item = self.batch.items.filter(state="done").first()
        secret = self.folder / "secret"
        secret.write_text("secret")
        link = Path(self.batch.destination) / "link.flac"
        link.symlink_to(secret)
        for output in (str(secret), "/etc/passwd", str(link), str(Path(self.batch.destination) / ".." / ".." / "x")):
            self.batch.items.filter(pk=item.pk).update(output=output)
            self.assertEqual(self.client.get(reverse("batches:download", args=[item.pk])).status_code, 404, output)
            Batch.objects.filter(pk=self.batch.pk).update(counts={})
            raw = self.client.get(reverse("batches:download-all", args=[self.batch.pk]))
            self.assertNotIn(b"secret", b"".join(raw.streaming_content) if raw.streaming else raw.content)
        Disc.objects.filter(pk=self.disc.pk).update(state="written", image_path="/etc/passwd")
        self.assertEqual(self.client.get(reverse("discs:image", args=[self.disc.pk, "bin"])).status_code, 404)

    def test_the_key_of_the_installation_is_its_owners_alone_and_never_empty(self) -> None:
        data = self.folder / "fresh"
        key = secret_key(data)
        self.assertEqual((data / "secret-key").stat().st_mode & 0o777, 0o600)
        self.assertEqual(data.stat().st_mode & 0o777, 0o700)
        data.chmod(0o755)
        secret_key(data)
        self.assertEqual(data.stat().st_mode & 0o777, 0o700)
        self.assertEqual(secret_key(data), key)
        self.assertGreater(len(key), 40)
        (data / "secret-key").write_text("")
        self.assertGreater(len(secret_key(data)), 40)
        self.assertEqual(len(list(data.iterdir())), 1)


class ErrorTests(SafetyCase):
    def test_pages_of_our_own_for_what_is_not_there(self) -> None:
        for name in ("collection:track", "batches:batch", "playlists:playlist", "discs:disc", "batches:download"):
            response = self.client.get(reverse(name, args=[99_999]))
            self.assertEqual(response.status_code, 404, name)
            self.assertIn("To the collection", response.content.decode())
        self.assertIn("Not here", self.client.get("/nowhere/").content.decode())
        Path(self.batch.items.filter(state="done").first().output).unlink()
        gone = self.client.get(reverse("batches:download", args=[self.batch.items.filter(state="done").first().pk]))
        self.assertIn("The result is no longer there.", gone.content.decode())

    def test_a_fault_of_ours_is_a_page_without_a_trace(self) -> None:
        self.client.raise_request_exception = False
        with mock.patch("rumbrel.web.collection.views.collection.totals_of", side_effect=KeyError("odd")):
            with self.assertLogs("django.request", "ERROR"):
                response = self.client.get("/")
        self.assertEqual(response.status_code, 500)
        self.assert_all_in(("Something went wrong", "To the collection"), response.content.decode())
        self.assertNotIn("Traceback", response.content.decode())

    def test_a_disk_or_a_database_in_the_way_is_said_with_what_to_do(self) -> None:
        self.client.raise_request_exception = False
        for error, status, words in (
            (
                OSError(28, "No space", "/data/covers/a"),
                503,
                "Not written: there is no room left at /data/covers. Free some space",
            ),
            (OperationalError("database is locked"), 503, "locked Rumbrel&#x27;s database"),
            (OSError(5, "Input/output error"), 500, "Something went wrong"),
        ):
            with mock.patch("rumbrel.web.collection.views.collection.totals_of", side_effect=error):
                with self.assertLogs("django.request", "ERROR"):
                    response = self.client.get("/")
            self.assertEqual(response.status_code, status)
            self.assertIn(words, response.content.decode())

    def test_a_form_that_is_too_old_and_a_drop_that_is_too_much_are_said(self) -> None:
        old = Client(enforce_csrf_checks=True).post(reverse("collection:drop"))
        self.assertEqual(old.status_code, 403)
        self.assertIn("Load the page again", old.content.decode())
        files = [SimpleUploadedFile(f"{n}.wav", b"x") for n in range(3)]
        with self.settings(DATA_UPLOAD_MAX_NUMBER_FILES=2):
            much = self.client.post(reverse("collection:drop"), {"files": files})
        self.assertEqual(much.status_code, 413)
        self.assertIn("Send fewer or smaller files", much.content.decode())
