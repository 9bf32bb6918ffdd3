"""What must hold whoever asks, on every page: methods, forgery, other hosts, paths outside, pages for errors."""

from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.urls import URLPattern, URLResolver, get_resolver, reverse

from rumbrel.core.targets import find_target
from rumbrel.web.batches.models import Batch
from rumbrel.web.batches.services import BatchWish, start_batch
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.discs.models import Disc
from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.models import Entry
from rumbrel.web.playlists.services import make_playlist
from rumbrel.web.settings import base
from rumbrel.web.settings.ours import secret_key
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


class SafetyCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.gather()
        self.pull_all()
        self.playlist = make_playlist(name="List", track_ids=pulled_ids())
        self.disc = Disc.objects.create(playlist=self.playlist)
        self.batch = start_batch(track_ids=pulled_ids(), wish=BatchWish(target=find_target("archive-flac")))
        self.work()
        self.batch.refresh_from_db()

    def addresses(self) -> dict[str, str]:
        """Every address, with the number of something that is there."""
        item = self.batch.items.filter(state="done").first()
        numbers = {
            **dict.fromkeys(
                (f"collection:{name}" for name in ("scan", "stop-scan", "believe-loss", "missing", "remove-missing")),
                SourceFolder.objects.get().pk,
            ),
            "batches:download": item.pk, "playlists:move": Entry.objects.first().pk,
            "playlists:remove": Entry.objects.first().pk, "discs:lay-out": self.playlist.pk,
        }  # fmt: skip
        usual = {
            "collection": Track.objects.get(relative="a/peal <b>.flac").pk, "batches": self.batch.pk,
            "playlists": self.playlist.pk, "discs": self.disc.pk, "jobs": Job.objects.first().pk,
        }  # fmt: skip
        found = {}
        for name, pattern in patterns(get_resolver()):
            parameters = pattern.pattern.converters
            values: dict[str, object] = {}
            if "pk" in parameters:
                values["pk"] = numbers.get(name, usual.get(name.split(":")[0]))
            if "kind" in parameters:
                values["kind"] = "bin"
            found[name] = reverse(name, kwargs=values)
        return found


class MethodTests(SafetyCase):
    def test_every_address_takes_one_method_and_nothing_changes_without_the_token(self) -> None:
        strict, changing = Client(enforce_csrf_checks=True), 0
        for name, address in self.addresses().items():
            if name == "discs:image":
                continue
            response = self.client.get(address)
            if response.status_code == 405:
                changing += 1
                self.assertEqual(strict.post(address).status_code, 403, name)
            else:
                self.assertEqual(response.status_code, 200, name)
                self.assertEqual(self.client.post(address).status_code, 405, name)
        self.assertGreaterEqual(changing, 20)

    def test_pages_are_strict_escaped_whole_and_load_nothing_from_elsewhere(self) -> None:
        for name, address in self.addresses().items():
            response = self.client.get(address)
            if response.status_code != 200 or response.streaming:
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
        self.assertIn("The result is not there any more.", gone.content.decode())

    def test_a_fault_of_ours_is_a_page_without_a_trace(self) -> None:
        self.client.raise_request_exception = False
        with mock.patch("rumbrel.web.collection.views.collection.totals_of", side_effect=KeyError("odd")):
            with self.assertLogs("django.request", "ERROR"):
                response = self.client.get("/")
        self.assertEqual(response.status_code, 500)
        self.assert_all_in(("Something went wrong", "To the collection"), response.content.decode())
        self.assertNotIn("Traceback", response.content.decode())

    def test_a_form_that_is_too_old_and_a_drop_that_is_too_much_are_said(self) -> None:
        old = Client(enforce_csrf_checks=True).post(reverse("collection:drop"))
        self.assertEqual(old.status_code, 403)
        self.assertIn("Load the page again", old.content.decode())
        files = [SimpleUploadedFile(f"{n}.wav", b"x") for n in range(settings.DATA_UPLOAD_MAX_NUMBER_FILES + 1)]
        much = self.client.post(reverse("collection:drop"), {"files": files})
        self.assertEqual(much.status_code, 413)
        self.assertIn("Send fewer or smaller files", much.content.decode())
