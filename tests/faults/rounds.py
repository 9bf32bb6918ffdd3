"""What is done in a round, what is done to it, and what must be true afterwards."""

import errno
import random
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import numpy as np
import soundfile
from django.db import connection
from django.db.models import Sum

from rumbrel.web.batches.models import Batch, Item
from rumbrel.web.collection.models import Facet, Pull, Track
from rumbrel.web.discs.models import Disc
from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.models import Playlist
from tests.signals import write_sound

from .instance import Instance

TARGETS = ("archive-flac", "car-mp3", "disc-wav")
_SUFFIXES = ("flac", "wav", "wav", "flac", "wav")
_SECONDS_OF_SOUND = 9
OFTEN = "kill time and again"
"""A fault for rounds of its own."""
_WRITE = "write"
"""Stands for putting a blank in and writing, among the addresses of what is to be done again."""
_SECONDS_TO_SETTLE = 120
_FRAME_BYTES = 4096 + 24
"""Of a page in the database's log (sqlite.org/fileformat.html)."""
_SECTOR_BYTES = 2352
_DISC_TRACKS = 3
_KILLED_IN_A_ROUND = ("crew", "crew", "crew", "consume", "consume", "web")


class Round:
    """One round on an instance with some work under way. Each fault is a method; so is each check."""

    def __init__(self, instance: Instance, source: Path, dice: random.Random, *, can_fill: bool) -> None:
        self.instance, self.source, self.dice = instance, source, dice
        # The first ones are those of a whole run.
        self.faults: dict[str, Callable[[], None]] = {
            "kill a worker": lambda: self._kill("crew"),
            "kill the consumer": lambda: self._kill("consume"),
            "power off in the middle of a write": self._power_off,
            "fill the disk": self._fill_disk,
            "make the disk read-only": self._make_read_only,
            "move the clock": self._move_clock,
            "kill the server": lambda: self._kill("web"),
            "kill the parent": self._kill_parent,
            "kill all": self._kill_all,
            "lock the database": self._lock_database,
            "stop and continue": self._stop_and_continue,
            "take the sources away": self._take_sources_away,
        }
        if not can_fill:
            del self.faults["fill the disk"]
        if instance.obstacles is None:
            del self.faults["make the disk read-only"], self.faults["move the clock"]
        self.kills = self._moved_seconds = 0
        self.batch: Batch | None = None
        self.disc: Disc | None = None

    # --- the work ---------------------------------------------------------------------------------

    def prepare(self) -> None:
        """Sounds, a source folder, everything pulled, a list and a disc."""
        for number in range(10):
            path = self.source / f"part {number % 3}" / f"{number}.{_SUFFIXES[number % len(_SUFFIXES)]}"
            write_sound(path, 44_100 * _SECONDS_OF_SOUND + number, seed=number + 1)
        self.instance.post("/folders/add/", path=self.source)
        self.settle()
        self.instance.post("/pull/all/")
        self.instance.post("/playlists/make/", name="List")
        listed = Playlist.objects.get()
        listed.entries.filter(position__gt=_DISC_TRACKS).delete()
        self.instance.post(f"/playlists/{listed.pk}/disc/")
        self.tracks, self.pulled, self.entries = self._rows()

    def _rows(self) -> tuple[int, int, int]:
        return Track.objects.count(), Pull.objects.count(), Playlist.objects.get().entries.count()

    def begin(self) -> None:
        """A batch whose results are made anew, a write, and a scan that finds a file under a new name."""
        files = sorted(path for path in self.source.rglob("*") if path.is_file())
        moved = self.dice.choice(files)
        moved.rename(moved.with_stem(f"{self.dice.randrange(10**6)} {moved.stem.split()[-1]}"))
        self.target = self.dice.choice(TARGETS)
        self.instance.post(f"/folders/{Track.objects.first().folder_id}/scan/")
        self.settle()
        when = self.dice.choice(("replace", "number"))
        self.instance.post("/batches/start/", target=self.target, when=when)
        self.batch, self.disc = Batch.objects.latest("pk"), Disc.objects.get()
        if self.dice.random() < 0.5:
            self._write_disc()
        if self.dice.random() < 0.3:
            self.instance.post(f"/folders/{Track.objects.first().folder_id}/scan/")

    def _write_disc(self) -> None:
        """A fresh blank into the recorder, and write."""
        self.instance.post(f"/discs/{self.disc.pk}/tray/put-in/", shelf="80")
        self.instance.post(f"/discs/{self.disc.pk}/write/start/", copies=1)

    def hurt(self, name: str) -> None:
        time.sleep(self.dice.random() * 2.0)
        (self.faults | {OFTEN: self.kill_often})[name]()

    # --- the faults -------------------------------------------------------------------------------

    def _kill(self, part: str) -> None:
        self.kills += self.instance.kill(part, self.dice)

    def kill_often(self) -> None:
        """Worker, consumer and server, none so often that their parent takes it for one that cannot live."""
        for part in self.dice.sample(_KILLED_IN_A_ROUND, len(_KILLED_IN_A_ROUND)):
            self._kill(part)
            time.sleep(self.dice.random() * 3.0)

    def _kill_parent(self) -> None:
        self.instance.kill("serve", self.dice)
        until = time.monotonic() + 20
        while self.instance.parts() and time.monotonic() < until:
            time.sleep(0.05)
        left = self.instance.parts()
        assert not left, f"outlived their parent: {left}"
        self.instance.start()

    def _kill_all(self) -> None:
        self.instance.kill_all()
        self.instance.start()

    def _power_off(self) -> None:
        """The database's log ends in the middle of a page: what it holds before that was brought to the disk, since a log
        is there before anything of it goes into the database."""
        self.instance.kill_all()
        for name in ("rumbrel.sqlite3-wal", "work.sqlite3-wal"):
            log = self.instance.data / name
            if log.exists():
                with log.open("ab") as file:
                    file.write(self.dice.randbytes(self.dice.randrange(1, _FRAME_BYTES)))
        self.instance.start()
        with closing(sqlite3.connect(self.instance.data / "rumbrel.sqlite3", timeout=30)) as database:
            said = database.execute("PRAGMA integrity_check").fetchone()[0]
        assert said == "ok", f"the database is damaged: {said}"

    def _lock_database(self) -> None:
        locking = sqlite3.connect(self.instance.data / "rumbrel.sqlite3", timeout=30, isolation_level=None)
        try:
            locking.execute("BEGIN IMMEDIATE")
            time.sleep(1 + self.dice.random() * 4)
            locking.execute("ROLLBACK")
        finally:
            locking.close()

    def _stop_and_continue(self) -> None:
        assert self.batch is not None
        self.instance.post(f"/batches/{self.batch.pk}/stop/")
        if self.dice.random() < 0.5:
            time.sleep(self.dice.random())
        self.instance.post(f"/batches/{self.batch.pk}/continue/")

    def _take_sources_away(self) -> None:
        away = self.source.with_name("away")
        self.source.rename(away)
        if self.dice.random() < 0.5:
            self.instance.post(f"/folders/{Track.objects.first().folder_id}/scan/")
        time.sleep(self.dice.random() * 2)
        away.rename(self.source)

    def _move_clock(self) -> None:
        """By a minute to a day, forth or back, from where it is; sometimes the consumer dies just then."""
        assert self.instance.obstacles is not None
        self._moved_seconds += self.dice.choice((-1, 1)) * self.dice.choice((60, 3_600, 86_400))
        self.instance.obstacles.move_clock(self._moved_seconds)
        if self.dice.random() < 0.5:
            self._kill("consume")

    def _make_read_only(self) -> None:
        """After so many writes more, for a while."""
        assert self.instance.obstacles is not None
        self.instance.obstacles.refuse(errno.EROFS, self.instance.data, let_through=self.dice.randrange(60))
        time.sleep(1 + self.dice.random() * 2)
        self.instance.obstacles.let_through()

    def _fill_disk(self) -> None:
        filler = self.instance.data / "filler"
        with filler.open("wb", buffering=0) as file:
            try:
                while True:
                    file.write(bytes(1 << 16))
            except OSError:
                pass
            try:
                while True:
                    file.write(b"x")
            except OSError:
                pass
        time.sleep(1 + self.dice.random() * 2)
        filler.unlink()

    # --- afterwards -------------------------------------------------------------------------------

    def settle(self) -> None:
        """Wait until nothing is at work any more."""
        until = time.monotonic() + _SECONDS_TO_SETTLE
        while active := list(Job.objects.filter(state__in=Job.ACTIVE).values_list("pk", "kind", "state", "worker")):
            assert time.monotonic() < until, f"work that does not end: {active}"
            assert self.instance.lives, "the instance ended by itself"
            time.sleep(0.1)
            connection.close()

    def put_right(self) -> list[str]:
        """What the user does about work that did not come to its end; returns the reasons that he was told."""
        reasons = []
        for _ in range(4):
            self.settle()
            unfinished = self._unfinished()
            if not unfinished:
                return reasons
            for address, reason in unfinished:
                reasons.append(reason)
                if address == _WRITE:
                    self._write_disc()
                else:
                    self.instance.post(address)
        raise AssertionError(f"it does not come to its end: {reasons}")

    def _unfinished(self) -> Iterator[tuple[str, str]] | list[tuple[str, str]]:
        assert self.batch is not None and self.disc is not None
        found = []
        self.batch.refresh_from_db()
        self.disc.refresh_from_db()
        job = self.batch.job
        assert job is not None
        failed = self.batch.items.filter(state__in=(Item.State.FAILED, Item.State.WAITING))
        if job.state != Job.State.DONE or failed.exists():
            reason = job.error or next((item.error for item in failed), "") or f"{job.state}"
            assert reason and "does not know" not in reason, f"no reason for the user: {reason!r}"
            found.append((f"/batches/{self.batch.pk}/continue/", reason))
        if self.disc.state in (Disc.State.FAILED, Disc.State.STOPPED):
            assert self.disc.error, "a failed write without a reason"
            found.append((_WRITE, self.disc.error))
        scan = Job.objects.filter(kind="scan").latest("pk")
        if scan.state != Job.State.DONE:
            found.append((f"/folders/{scan.subject}/scan/", scan.error or scan.state))
        return found

    def check(self) -> None:
        """Every job ended as it should, nothing doubled, no partial file, no row lost, no word untrue."""
        self._check_jobs()
        self._check_rows()
        self._check_batch()
        self._check_disc()
        self._check_files()

    def _check_jobs(self) -> None:
        for job in Job.objects.order_by("-pk")[:6]:
            assert job.state in (Job.State.DONE, Job.State.FAILED, Job.State.STOPPED), job
            assert job.ended_at and not job.worker and not job.stop_asked and not job.again, job
            assert job.message or job.error or job.state == Job.State.STOPPED, f"{job} says nothing"

    def _check_rows(self) -> None:
        assert self._rows() == (self.tracks, self.pulled, self.entries), f"rows lost or doubled: {self._rows()}"
        assert Facet.objects.aggregate(n=Sum("tracks"))["n"] == self.tracks, "kept counts are untrue"
        gone = [track.path for track in Track.objects.all() if bool(track.missing_since) == Path(track.path).exists()]
        assert not gone, f"said to be there or missing, and is not: {gone}"

    def _check_batch(self) -> None:
        batch = self.batch
        assert batch is not None
        items = list(batch.items.all())
        assert len(items) == len({item.number for item in items}) == self.pulled, "lines lost or doubled"
        states = {state: sum(item.state == state for item in items) for state in {item.state for item in items}}
        assert batch.counts == states == {"done": self.pulled}, (batch.counts, states)
        assert batch.job is not None and batch.job.message.startswith(f"{self.pulled} results in "), batch.job.message
        outputs = [item.output for item in items]
        assert len(set(outputs)) == len(outputs), "two lines with one result"
        for item in items:
            assert item.checked and item.bytes_out == Path(item.output).stat().st_size, item.output
            self._compare(Path(item.source), Path(item.output), bit_exact=item.bit_exact)

    def _compare(self, source: Path, output: Path, *, bit_exact: bool) -> None:
        """Decoded by a library that had no part in it."""
        if not source.exists():
            # Renamed by a later round; its content is known by its number.
            number = source.stem.split()[-1]
            source = next(path for path in self.source.rglob("*") if path.stem.split()[-1] == number)
        before, _ = soundfile.read(source, dtype="int16")
        after, _ = soundfile.read(output, dtype="int16")
        assert len(before) == len(after), f"{output}: {len(after)} samples instead of {len(before)}"
        if bit_exact:
            assert np.array_equal(before, after), f"{output} is said to be bit-exact"
        else:
            likeness = np.corrcoef(before.ravel().astype(float), after.ravel().astype(float))[0, 1]
            assert likeness > 0.9, f"{output} is another sound ({likeness:.2f})"

    def _check_disc(self) -> None:
        disc = self.disc
        assert disc is not None
        if not disc.image_path:
            assert disc.state == Disc.State.LAID_OUT, disc.state
            return
        assert disc.state == Disc.State.WRITTEN and disc.proved, (disc.state, disc.error)
        image = Path(disc.image_path).read_bytes()
        assert len(image) == disc.written["total_sectors"] * _SECTOR_BYTES, "the image is not of its length"
        for track, entry in zip(disc.written["tracks"], disc.playlist.entries.select_related("track"), strict=True):
            sound, _ = soundfile.read(entry.track.path, dtype="int16")
            minutes, seconds, frames = map(int, track["start_msf"].split(":"))
            start = ((minutes * 60 + seconds) * 75 + frames) * _SECTOR_BYTES
            raw = np.frombuffer(image[start : start + sound.size * 2], "<i2").reshape(sound.shape)
            assert np.array_equal(raw, sound), f"track {track['number']} is said to be identical"

    def _check_files(self) -> None:
        for folder in (self.instance.data, self.source):
            partial = [path for path in folder.rglob("*") if path.name.startswith(".") and path.suffix == ".part"]
            assert not partial, f"half-written: {partial}"
        claimed = set(Item.objects.exclude(output="").values_list("output", flat=True))
        results = {str(path) for path in (self.instance.data / "results").rglob("*") if path.is_file()}
        assert results <= claimed, f"results of no batch: {sorted(results - claimed)[:3]}"
        known = {
            "rumbrel.sqlite3",
            "rumbrel.sqlite3-wal",
            "rumbrel.sqlite3-shm",
            "work.sqlite3",
            "in-use",
            "secret-key",
            "work-alive",
        }
        other = {path.name for path in self.instance.data.iterdir() if path.is_file()} - known
        assert not {name for name in other if not name.startswith("work.sqlite3")}, f"left in the data folder: {other}"

    def tidy(self) -> None:
        """Room for the next round: what was made is removed, as a user removes it."""
        for path in sorted((self.instance.data / "results").rglob("*"), reverse=True):
            path.unlink() if path.is_file() else path.rmdir()
