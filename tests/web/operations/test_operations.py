"""Backups that are whole, a restore that loses nothing, a self-check that finds what is wrong, and limits that hold."""

import io
import json
import logging
import os
import shutil
import sqlite3
import subprocess
import sys
import tarfile
import tempfile
import threading
import time
from contextlib import closing
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.management import call_command
from django.test import TestCase, override_settings
from django.urls import reverse
from django.utils import timezone

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.files import working_path
from rumbrel.core.forecast import Entry, ResultLedger
from rumbrel.core.verdict import Verdict
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.watch import beat
from rumbrel.web.operations.models import BackupPlan, SelfCheck
from rumbrel.web.operations.services import (
    back_up,
    backups_in,
    check_self,
    growths,
    keep_within_limits,
    kept_check,
    read_backup,
    restore,
    restore_drill,
    start_due_backup,
    start_due_self_check,
)
from rumbrel.web.operations.services.back_up import Backup
from rumbrel.web.ui.logs import JsonLines
from tests.marks import slow
from tests.signals import write_sound
from tests.web.case import WebCase

PLANNING = "rumbrel.web.operations.services.plan_backups"
MANAGE = Path(__file__).resolve().parents[3] / "manage.py"


class BackupCase(WebCase):
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


class BackupTests(BackupCase):
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
                            "INSERT INTO bench_discnames (digest, said, sound, names) VALUES (?, '', '', '{}')",
                            (f"d{number}",),
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


class MoveTests(BackupCase):
    """Restored elsewhere, everything is found again."""

    def rows(self, database: Path, sql: str) -> list[tuple[object, ...]]:
        with closing(sqlite3.connect(database)) as live:
            return live.execute(sql).fetchall()

    def put(self, live: sqlite3.Connection, table: str, **values: str) -> None:
        """A row with these values; of the other columns those that must have one have nothing in them."""
        for _, name, kind, needed, default, key in live.execute(f"PRAGMA table_info({table})").fetchall():
            if needed and not key and default is None and name not in values:
                values[name] = "" if "char" in kind or "text" in kind else "0"
        marks = ", ".join("?" for _ in values)
        live.execute(f"INSERT INTO {table} ({', '.join(values)}) VALUES ({marks})", list(values.values()))

    def test_results_sources_and_ledgers_have_their_new_places(self) -> None:
        self.filled()
        music = "/mnt/m\u00fcsic"
        result = self.data.resolve() / "results" / "one.mp3"
        step = json.dumps({"output": str(result), "source": f"{music}/a.flac"})
        with closing(sqlite3.connect(self.data / "rumbrel.sqlite3")) as live, live:
            self.put(live, "collection_sourcefolder", path=music, added_at="2026-01-01")
            options = json.dumps({"folder": music})
            self.put(
                live, "batches_batch", destination=str(result.parent), options=options, aside_folder=f"{music}-aside",
                targets="[]", track_ids="[]", counts="{}", created_at="2026-01-01",
            )  # fmt: skip
            live.execute("INSERT INTO collection_savedview (owner, name, query) VALUES ('', 'step', ?)", (step,))
        ledger = ResultLedger.for_destination(self.data / "ledger", result.parent)
        source = write_sound(self.folder / "a.wav", 900)
        status = source.stat()
        ledger.add(
            Entry(source=f"{music}/a.flac", source_bytes=status.st_size, source_ns=status.st_mtime_ns, work="w",
                  output=str(result), output_bytes=result.stat().st_size, output_ns=result.stat().st_mtime_ns)
        )  # fmt: skip
        back_up(path=self.file, with_files=True)
        self.data = self.folder / "elsewhere" / "data"
        disk = self.folder / "disk"
        disk.mkdir()
        shutil.copy2(source, disk / "a.flac")
        ended = self.manage("restore", str(self.file), "--place", f"{music}={disk}")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        database, moved = self.data / "rumbrel.sqlite3", self.data.resolve() / "results" / "one.mp3"
        self.assertEqual(self.rows(database, "SELECT path FROM collection_sourcefolder"), [(str(disk),)])
        ((text,),) = self.rows(database, "SELECT query FROM collection_savedview")
        self.assertEqual(json.loads(str(text)), {"output": str(moved), "source": f"{disk}/a.flac"})
        ((folder, options, aside),) = self.rows(
            database, "SELECT destination, options, aside_folder FROM batches_batch"
        )
        self.assertEqual((folder, json.loads(str(options))), (str(moved.parent), {"folder": str(disk)}))
        self.assertEqual(aside, f"{music}-aside", "a folder whose name only begins so is another one")
        self.assertTrue(moved.exists())
        there = ResultLedger.for_destination(self.data / "ledger", moved.parent)
        self.assertEqual([entry.output for entry in there.entries()], [str(moved)])
        self.assertIsNotNone(there.finished(f"{disk}/a.flac", "w"), "it is known as made, and not made again")
        without = self.manage("restore", str(self.file))
        self.assertIn(f"not found: {music}", without.stdout)

    def test_into_a_folder_that_is_a_mount_point(self) -> None:
        self.filled()
        back_up(path=self.file)
        (self.data / "targets" / "van.toml").write_text("name = 'Spoiled'")
        rename = os.rename

        def mounted(one: object, other: object) -> None:
            if Path(str(one)) == self.data or Path(str(other)) == self.data:
                raise OSError(16, "Device or resource busy")
            rename(str(one), str(other))

        with mock.patch("os.path.ismount", lambda path: Path(path) == self.data), mock.patch("os.rename", mounted):
            _, aside = restore(path=self.file)
        assert aside is not None
        self.assertEqual((self.data / "targets" / "van.toml").read_text(), "name = 'Van'")
        self.assertEqual((aside / "targets" / "van.toml").read_text(), "name = 'Spoiled'")
        self.assertEqual((self.data / "results" / "one.mp3").read_bytes(), b"sound")
        self.assertEqual(list(self.data.glob(".*restored*")), [])

    def test_a_newer_backup_is_refused_with_both_versions(self) -> None:
        self.filled()
        with mock.patch("rumbrel.__version__", "99.1.0"):
            back_up(path=self.file)
        with self.assertRaisesRegex(RumbrelError, "made by version 99.1.0 .*this is version 0"):
            restore(path=self.file)
        with closing(sqlite3.connect(self.data / "rumbrel.sqlite3")) as live, live:
            live.execute(
                "INSERT INTO django_migrations (app, name, applied) VALUES ('batches', '0999_later', '2026-01-01')"
            )
        back_up(path=self.folder / "later.tar")
        with self.assertRaisesRegex(RumbrelError, "does not know .batches 0999_later"):
            restore(path=self.folder / "later.tar")

    def test_what_a_killed_backup_left_is_swept_by_the_next(self) -> None:
        self.filled()
        left = working_path(self.folder / "old.tar.database")
        left.mkdir()
        (left / "rumbrel.sqlite3").write_bytes(bytes(100))
        working_path(self.folder / "old.tar").write_bytes(b"half")
        back_up(path=self.file)
        self.assertEqual(list(self.folder.glob(".rumbrel-*")), [])


class ScheduleTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        settings.RUMBREL.data.mkdir(parents=True, exist_ok=True)

    def save(self, **values: object) -> str:
        sent = {"every_days": 7, "folder": str(self.folder / "kept"), "keep": 2, **values}
        return self.client.post(reverse("operations:plan-backups"), sent, follow=True).content.decode()

    def test_they_are_taken_when_due_drilled_and_thinned(self) -> None:
        self.assertEqual(start_due_backup(), 0, "nothing was asked for")
        self.assertIn("is not there", self.save())
        self.assertIn("inside the data folder", self.save(folder=str(settings.RUMBREL.data)))
        self.assertIn("how many backups to keep", self.save(keep=0))
        (self.folder / "kept").mkdir()
        foreign = self.folder / "kept" / "rumbrel-of-mine.tar"
        foreign.write_bytes(b"mine")
        self.assertIn("Saved: every 7 days", self.save())
        taken: list[Path] = []

        def noted(*, path: Path, with_files: bool) -> Backup:
            path.write_bytes(b"a backup")
            taken.append(path)
            return Backup(taken_at="", version="", with_files=with_files, digests={"a": "b"}, size_bytes=1)

        with (
            mock.patch(f"{PLANNING}.back_up", noted), mock.patch(f"{PLANNING}.restore_drill", return_value="Restored: 3 tracks."),
        ):  # fmt: skip
            for number in range(4):
                Job.objects.update(created_at=timezone.now() - timedelta(days=2))
                BackupPlan.objects.update(taken_at=timezone.now() - timedelta(days=8 if number else 999))
                with mock.patch(f"{PLANNING}.timezone.now", return_value=timezone.now() + timedelta(seconds=number)):
                    self.assertEqual((start_due_backup(), start_due_backup()), (1, 0))
                    (job,) = self.work()
                self.assertEqual(job.state, "done", job.error)
            self.assertEqual(start_due_backup(), 0, "seven days have not passed")
        self.assertEqual(backups_in(str(self.folder / "kept")), taken[:1:-1])
        self.assertTrue(foreign.exists())
        self.assert_all_in(
            ("2 backups in the folder", "Restored: 3 tracks.", "Back up now"), self.page(reverse("operations:index"))
        )

    def test_one_that_failed_is_tried_the_next_day(self) -> None:
        (self.folder / "kept").mkdir()
        self.save()
        with mock.patch(f"{PLANNING}.back_up", side_effect=OutputError("No room.")):
            start_due_backup()
            (job,) = self.work()
        self.assertEqual((job.state, job.error), ("failed", "No room."))
        self.assertEqual(start_due_backup(), 0)
        Job.objects.update(created_at=timezone.now() - timedelta(hours=25))
        self.assertEqual(start_due_backup(), 1)


class DrillTests(BackupCase):
    def test_a_backup_is_restored_for_a_trial_and_leaves_nothing(self) -> None:
        self.filled()
        back_up(path=self.file)
        self.assertIn("Restored for a trial: 0 tracks", restore_drill(self.file))
        self.assertEqual([path.name for path in self.folder.glob(".rumbrel-trial-*")], [])
        self.file.write_bytes(self.file.read_bytes()[: self.file.stat().st_size // 2])
        with self.assertRaisesRegex(RumbrelError, "could not be restored for a trial"):
            restore_drill(self.file)


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
        with mock.patch("rumbrel.web.operations.services.keep_check.check_self", wraps=check_self) as looked:
            self.assertIn("Not made yet", self.page(reverse("operations:index")))
            looked.assert_not_called()
            self.assertEqual((start_due_self_check(), start_due_self_check()), (1, 0))
            self.client.post(reverse("operations:check"))
            self.assertEqual([job.state for job in self.work()], ["done"])
        kept = kept_check()
        self.assertEqual([check.name for check in kept.checks], [check.name for check in check_self()])
        self.assertEqual(next(g for g in kept.growths if g.name == "results").folder, settings.RUMBREL.results)
        self.assert_all_in(("3.0 MB", "results", "passed", "./run backup"), self.page(reverse("operations:index")))
        self.assertEqual(start_due_self_check(), 0)
        SelfCheck.objects.update(checked_at=timezone.now() - timedelta(days=2))
        Job.objects.update(created_at=timezone.now() - timedelta(days=2))
        self.assertEqual(start_due_self_check(), 1)

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
