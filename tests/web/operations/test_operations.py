"""Backups that are whole, a restore that loses nothing, a self-check that finds what is wrong, and limits that hold."""

import io
import json
import logging
import os
import sqlite3
import subprocess
import sys
import tarfile
import tempfile
import threading
import time
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.management import call_command
from django.test import TestCase, override_settings
from django.urls import reverse
from django.utils import timezone

from rumbrel.core.errors import RumbrelError
from rumbrel.core.verdict import Verdict
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.watch import beat
from rumbrel.web.operations.services import back_up, check_self, growths, keep_within_limits, read_backup, restore
from rumbrel.web.ui.logs import JsonLines
from tests.marks import slow
from tests.web.case import WebCase

MANAGE = Path(__file__).resolve().parents[3] / "manage.py"


class BackupTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.data = settings.RUMBREL.data
        self.file = self.folder / "kept.tar"

    def manage(self, *words: str) -> subprocess.CompletedProcess[str]:
        environment = {
            **os.environ, "RUMBREL_DATA": str(self.data), "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base",
        }  # fmt: skip
        return subprocess.run(
            [sys.executable, str(MANAGE), *words], env=environment, capture_output=True, text=True, timeout=120
        )

    def filled(self) -> None:
        self.assertEqual(self.manage("migrate", "-v0").returncode, 0)
        (self.data / "targets").mkdir()
        (self.data / "targets" / "van.toml").write_text("name = 'Van'")
        (self.data / "ledger").mkdir()
        (self.data / "results").mkdir()
        (self.data / "results" / "one.mp3").write_bytes(b"sound")

    def test_taken_while_somebody_writes_it_is_of_one_moment_and_comes_back(self) -> None:
        """A writer keeps two tables equal in each transaction; so they are in every backup."""
        self.filled()
        path = self.data / "rumbrel.sqlite3"
        ended, written = threading.Event(), []

        def write() -> None:
            with closing(sqlite3.connect(path, timeout=30)) as database:
                for number in range(1, 100_000):
                    if ended.is_set():
                        return
                    with database:
                        database.execute(
                            "INSERT INTO collection_savedview (owner, name, query) VALUES ('', ?, '')", (f"v{number}",)
                        )
                        database.execute(
                            "INSERT INTO bench_discnames (digest, names) VALUES (?, '{}')", (f"d{number}",)
                        )
                    written.append(number)

        writer = threading.Thread(target=write)
        writer.start()
        try:
            while len(written) < 20:
                time.sleep(0.01)
            for number in range(3):
                backup = back_up(path=self.folder / f"kept-{number}.tar")
        finally:
            ended.set()
            writer.join()
        self.assertEqual(
            sorted(backup.digests), ["rumbrel.sqlite3", "secret-key", "targets/van.toml"], "results are not asked for"
        )
        self.assertEqual((self.folder / "kept-0.tar").stat().st_mode & 0o777, 0o600)
        counts = []
        for number in range(3):
            with tarfile.open(self.folder / f"kept-{number}.tar") as tar:
                tar.extract("rumbrel.sqlite3", self.folder / str(number), filter="data")
            with closing(sqlite3.connect(self.folder / str(number) / "rumbrel.sqlite3")) as copy:
                pair = [copy.execute(f"SELECT count(*) FROM {t}").fetchone()[0]
                        for t in ("collection_savedview", "bench_discnames")]  # fmt: skip
                self.assertEqual(pair[0], pair[1])
                self.assertEqual(copy.execute("SELECT count(*) FROM django_session").fetchone()[0], 0)
                counts.append(pair[0])
        self.assertGreaterEqual(counts[0], 20)
        (self.data / "targets" / "van.toml").write_text("name = 'Spoiled'")
        ended_well = self.manage("restore", str(self.folder / "kept-2.tar"))
        self.assertEqual(ended_well.returncode, 0, ended_well.stderr)
        self.assertEqual((self.data / "targets" / "van.toml").read_text(), "name = 'Van'")
        self.assertEqual((self.data / "results" / "one.mp3").read_bytes(), b"sound", "what it does not hold stays")
        with closing(sqlite3.connect(path)) as database:
            self.assertEqual(database.execute("SELECT count(*) FROM bench_discnames").fetchone()[0], counts[2])
        aside = next(self.data.parent.glob(f"{self.data.name}.before-*"))
        self.assertIn("Spoiled", (aside / "targets" / "van.toml").read_text(), "nothing is lost by it")

    def test_what_is_not_whole_is_never_restored(self) -> None:
        self.filled()
        back_up(path=self.file, with_files=True)
        self.assertIn("results/one.mp3", read_backup(self.file).digests)
        with self.assertRaisesRegex(RumbrelError, "there already"):
            back_up(path=self.file)
        whole = self.file.read_bytes()
        at = whole.index(b"name = 'Van'")
        evil = io.BytesIO()
        with tarfile.open(fileobj=evil, mode="w") as tar:
            for name, body in (("../outside", b"x"), ("contents.json", b'{"form": 1, "digests": {"../outside": "0"}}')):
                entry = tarfile.TarInfo(name)
                entry.size = len(body)
                tar.addfile(entry, io.BytesIO(body))
        for said, data in (
            ("damaged: targets/van.toml", whole[:at] + b"N" + whole[at + 1 :]), ("backup", whole[: len(whole) // 2]),
            ("cannot be read|cut short", b"no tar at all"), ("damaged|no database", evil.getvalue()), ("cut short|cannot", b""),
        ):  # fmt: skip
            bad = self.folder / "bad.tar"
            bad.write_bytes(data)
            with self.assertRaisesRegex(RumbrelError, said):
                restore(path=bad)
            self.assertTrue((self.data / "rumbrel.sqlite3").exists(), "what is there stays")
        self.assertFalse((self.folder / "outside").exists())
        with mock.patch("os.rename", side_effect=OSError(28, "No space left on device")):
            with self.assertRaises(RumbrelError):
                restore(path=self.file)
        self.assertEqual(sorted(path.name for path in self.folder.glob(".*")), [], "nothing half-restored is left")


class CheckTests(WebCase):
    def test_each_fault_is_found_with_its_remedy(self) -> None:
        data = settings.RUMBREL.data
        data.mkdir(mode=0o700)
        beat()

        def said(**more: object) -> dict[str, tuple[str, str]]:
            return {c.name: (str(c.verdict), c.remedy) for c in check_self(**more)}  # type: ignore[arg-type]

        fine = said()
        self.assertEqual(
            {name for name, (verdict, _) in fine.items() if verdict != "passed"} - {"room", "database"}, set()
        )
        data.chmod(0o755)
        self.assertEqual(said()["permissions"][0], "failed")
        data.chmod(0o700)
        os.utime(data / "work-alive", (time.time() - 3_600, time.time() - 3_600))
        self.assertEqual(said()["workers"][0], "failed")
        self.assertNotIn("workers", said(running=False))
        with mock.patch("shutil.disk_usage", return_value=mock.Mock(free=10_000_000)):
            self.assertEqual(said()["room"][0], "failed")
        Job.objects.create(kind="scan", subject=1, title="s", heartbeat=timezone.now() + timezone.timedelta(hours=3))
        self.assertEqual(said()["clock"][0], "doubtful")
        roots = override_settings(RUMBREL=replace(settings.RUMBREL, roots=(self.folder / "gone",)))
        with roots:
            self.assertEqual(said()[f"folder {self.folder / 'gone'}"][0], "doubtful")
        with mock.patch("importlib.metadata.version", return_value="0.0.1"):
            self.assertEqual(said()["packages"], ("failed", "Run ./run setup."))
        with mock.patch.dict(settings.DATABASES["default"], {"NAME": self.folder / "broken"}):
            (self.folder / "broken").write_bytes(b"SQLite format 3\0" + b"\xff" * 5_000)
            self.assertEqual(said()["database"][0], "failed")
        self.assertTrue(all(remedy for verdict, remedy in said().values() if verdict != Verdict.PASSED))
        out = io.StringIO()
        with self.assertRaises(SystemExit):
            call_command("doctor", "--json", stdout=out)
        self.assertEqual(json.loads(out.getvalue().splitlines()[0])["name"], "packages")

    def test_the_page_shows_it_and_health_is_told_to_who_supervises(self) -> None:
        settings.RUMBREL.data.mkdir(mode=0o700)
        self.assertEqual(self.client.get(reverse("jobs:health")).json()["work"], "not started")
        beat()
        answer = self.client.get(reverse("jobs:health"))
        self.assertEqual((answer.status_code, answer.json()["state"]), (200, "ok"))
        settings.RUMBREL.results.mkdir()
        (settings.RUMBREL.results / "a.mp3").write_bytes(bytes(3_000_000))
        self.assert_all_in(("3.0 MB", "results", "passed", "./run backup"), self.page(reverse("operations:index")))

    def test_what_has_a_limit_stays_within_it_the_oldest_going_first(self) -> None:
        pictures = settings.RUMBREL.pictures
        pictures.mkdir(parents=True)
        for number in range(6):
            path = pictures / f"{number}.npz"
            path.write_bytes(bytes(100))
            os.utime(path, (1_000 + number, 1_000 + number))
        with override_settings(RUMBREL=replace(settings.RUMBREL, most_picture_bytes=250)):
            keep_within_limits()
        self.assertEqual(sorted(path.name for path in pictures.iterdir()), ["4.npz", "5.npz"])
        self.assertEqual(next(row for row in growths() if row.folder == pictures).size_bytes, 200)
        Job.objects.bulk_create(Job(kind="x", subject=n, title="t", state="done") for n in range(12))
        Job.objects.create(kind="x", subject=99, title="t", state="running")
        with mock.patch("rumbrel.web.operations.services.limit_growth.MOST_ENDED_JOBS", 5):
            keep_within_limits()
        kept = list(Job.objects.order_by("pk").values_list("subject", flat=True))
        self.assertEqual(kept, [7, 8, 9, 10, 11, 99])


class LogTests(TestCase):
    def test_a_line_is_an_object(self) -> None:
        record = logging.LogRecord("rumbrel.x", logging.ERROR, "", 0, "two\nlines %s", ("é",), None)
        said = json.loads(JsonLines().format(record))
        self.assertEqual((said["level"], said["text"], said["name"]), ("error", "two\nlines é", "rumbrel.x"))
        self.assertNotIn("\n", JsonLines().format(record))


@slow
class MigrationTests(TestCase):
    def test_rows_of_every_earlier_state_are_there_in_the_present_one(self) -> None:
        with tempfile.TemporaryDirectory() as data:
            environment = {**os.environ, "RUMBREL_DATA": data, "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base"}
            words = [sys.executable, "-m", "tests.web.operations.earlier_state"]
            ended = subprocess.run(words, env=environment, capture_output=True, text=True, cwd=MANAGE.parent)
        self.assertEqual(ended.returncode, 0, ended.stderr[-2_000:])
        self.assertNotIn("lost:", ended.stdout)
        self.assertRegex(ended.stdout, r"^[4-9]\d states with \d{3,} rows")
