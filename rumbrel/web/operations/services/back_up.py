"""A backup is one tar file: the database as it was at one moment, what stands beside it, and a list of digests.

It is taken while work goes on. Sources are not in it, and results only where they are asked for.
"""

import hashlib
import io
import json
import os
import shutil
import sqlite3
import tarfile
import time
from collections.abc import Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.db.migrations.loader import MigrationLoader
from django.utils import timezone

import rumbrel
from rumbrel.core.errors import RumbrelError
from rumbrel.core.files import (
    move_into_place,
    not_written,
    output_errors,
    refusal_reason,
    remove_leftovers,
    working_file,
    working_folder,
)

from .move_paths import move_paths

__all__ = ["Backup", "BackupRefused", "back_up", "read_backup", "restore"]

_DATABASE = "rumbrel.sqlite3"
_STATE = ("targets", "covers", "undo", "ledger", "secret-key")
"""What cannot be made again, beside the database."""
_FILES = ("dropped", "results", "discs", "shelf", "reading")
"""What was brought or made: large, and often kept elsewhere."""
_LIST = "contents.json"
_FORM = 1
_TIME = "RUMBREL.mtime_ns"
_COPY_BYTES = 1 << 20


class BackupRefused(RumbrelError):
    """A backup cannot be taken, read or restored; the message says why and what to do."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Backup:
    """What a backup says of itself. digests are the SHA-256 of its files by their names; data is where its data folder was, ""
    where that was not kept yet."""

    taken_at: str
    version: str
    with_files: bool
    digests: dict[str, str]
    size_bytes: int
    data: str = ""
    roots: tuple[str, ...] = ()


def back_up(*, path: Path, with_files: bool = False) -> Backup:
    """Write a backup, whole or not at all, readable by its owner alone; read it again and compare.

    Raises BackupRefused, OutputError.
    """
    data = settings.RUMBREL.data
    if path.exists():
        raise BackupRefused(f"{path} is there already. Choose another name.")
    if not (data / _DATABASE).is_file():
        raise BackupRefused(f"There is nothing to back up in {data}: Rumbrel was never started with it.")
    digests: dict[str, str] = {}
    _sweep_copies(path.parent)
    with output_errors(path.parent), working_file(path) as working:
        working.chmod(0o600)
        with working.open("wb") as file:
            copies = working_folder(path.with_name(f"{path.name}.database"))
            with tarfile.open(fileobj=file, mode="w") as tar, copies as folder:
                folder.chmod(0o700)
                copy = folder / _DATABASE
                _copy_database(data / _DATABASE, copy)
                _add(tar, copy, _DATABASE, digests)
                for name in (*_STATE, *(_FILES if with_files else ())):
                    for found in _files_of(data / name):
                        _add(tar, found, str(found.relative_to(data)), digests)
                said = {
                    "form": _FORM, "taken_at": timezone.now().isoformat(), "version": rumbrel.__version__,
                    "with_files": with_files, "digests": digests, "data": str(data.resolve()),
                    "roots": [str(root) for root in settings.RUMBREL.roots],
                }  # fmt: skip
                body = json.dumps(said, ensure_ascii=True, indent=1).encode()
                entry = tarfile.TarInfo(_LIST)
                entry.size, entry.mode, entry.mtime = len(body), 0o600, int(time.time())
                tar.addfile(entry, io.BytesIO(body))
            file.flush()
            os.fsync(file.fileno())
        backup = read_backup(working)
        move_into_place(working, path, replaces=False)
    return backup


def _sweep_copies(folder: Path) -> None:
    """What a backup that was killed left beside it: a part of the file, and a copy of the database."""
    with output_errors(folder):
        remove_leftovers(folder, below=False)
        for left in folder.glob(".rumbrel-*.part"):
            if left.is_dir() and (left / _DATABASE).exists():
                shutil.rmtree(left, ignore_errors=True)


def _copy_database(source: Path, copy: Path) -> None:
    """The database as it is at one moment, by SQLite's own means; who is signed in is nobody's to keep."""
    try:
        with closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True, timeout=60)) as live:
            with closing(sqlite3.connect(copy)) as kept:
                live.backup(kept)
                kept.execute("DELETE FROM django_session")
                kept.commit()
                kept.execute("VACUUM")
                said = kept.execute("PRAGMA integrity_check").fetchone()[0]
    except sqlite3.OperationalError as error:
        raise not_written(copy, f"the database could not be copied ({error})") from error
    if said != "ok":
        raise BackupRefused(f"The database is damaged ({said}). Restore an earlier backup.")


def _files_of(path: Path) -> Iterator[Path]:
    if path.is_file():
        yield path
    elif path.is_dir():
        yield from (found for found in sorted(path.rglob("*")) if found.is_file() and not found.is_symlink())


class _Digesting(io.RawIOBase):
    """Hands on what is read, and digests it: what is in the file is what was compared, also where it changed meanwhile."""

    def __init__(self, file: io.BufferedReader, size_bytes: int) -> None:
        self._file, self._left, self.digest = file, size_bytes, hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        wanted = self._left if size < 0 else min(size, self._left)
        piece = self._file.read(wanted)
        # A file that became shorter is filled up: its entry states how long it was.
        piece += bytes(wanted - len(piece))
        self._left -= wanted
        self.digest.update(piece)
        return piece


def _add(tar: tarfile.TarFile, path: Path, name: str, digests: dict[str, str]) -> None:
    try:
        with path.open("rb") as file:
            entry = tar.gettarinfo(arcname=name, fileobj=file)
            entry.mode = 0o600
            # As exact as the ledgers have it: a result is known again by it.
            entry.pax_headers = {_TIME: str(os.fstat(file.fileno()).st_mtime_ns)}
            reader = _Digesting(file, entry.size)
            tar.addfile(entry, reader)
    except FileNotFoundError:
        # What goes while it is being backed up was on its way out.
        return
    digests[name] = reader.digest.hexdigest()


def read_backup(path: Path) -> Backup:
    """Read all of a backup and compare every file with its digest. Raises BackupRefused."""
    found: dict[str, str] = {}
    said = None
    try:
        with tarfile.open(path, "r:") as tar:
            for member in tar:
                file = tar.extractfile(member) if member.isfile() else None
                if file is None:
                    raise BackupRefused(f"{path.name} holds {member.name}, which is no file. It is no backup of ours.")
                if member.name == _LIST:
                    said = json.loads(file.read(64 << 20))
                else:
                    found[member.name] = hashlib.file_digest(file, "sha256").hexdigest()  # type: ignore[arg-type]
    except (tarfile.TarError, OSError, ValueError) as error:
        raise BackupRefused(f"{path.name} cannot be read as a backup. Take another one.") from error
    if not isinstance(said, dict) or said.get("form") != _FORM or not isinstance(said.get("digests"), dict):
        raise BackupRefused(f"{path.name} was cut short, or is no backup of ours. Take another one.")
    if found != said["digests"]:
        wrong = sorted(
            name for name in found.keys() | said["digests"].keys() if found.get(name) != said["digests"].get(name)
        )
        raise BackupRefused(f"{path.name} is damaged: {wrong[0]} is not what was backed up. Take another one.")
    if _DATABASE not in found:
        raise BackupRefused(f"{path.name} holds no database. It is no backup of ours.")
    return Backup(
        taken_at=str(said.get("taken_at", "")), version=str(said.get("version", "")),
        with_files=bool(said.get("with_files")), digests=found, size_bytes=path.stat().st_size,
        data=str(said.get("data", "")), roots=tuple(map(str, said.get("roots", ()))),
    )  # fmt: skip


def restore(*, path: Path, places: Mapping[Path, Path] | None = None) -> tuple[Backup, Path | None]:
    """Put a backup in the place of the data folder; what was there is kept beside it, and its folder returned. places says
    where folders are now that were elsewhere; the data folder's own place is known.

    What the backup does not hold of files is taken over from there. Raises BackupRefused, OutputError.
    """
    backup = read_backup(path)
    _see_that_it_is_not_newer(backup)
    data = settings.RUMBREL.data
    # A folder that is mounted keeps its name: what is in it changes places within it.
    mounted = os.path.ismount(data)
    beside = data if mounted else data.parent
    fresh = beside / f".{data.name}.restored.{os.getpid()}"
    moved = {Path(old): new for old, new in ({backup.data: data.resolve()} if backup.data else {}).items()}
    with output_errors(beside):
        for left in beside.glob(f".{data.name}.restored.*"):
            shutil.rmtree(left, ignore_errors=True)
        fresh.mkdir(mode=0o700)
        try:
            with tarfile.open(path, "r:") as tar:
                tar.extractall(fresh, filter="data")
                for member in tar.getmembers():
                    if (time_ns := member.pax_headers.get(_TIME, "")).isdecimal():
                        os.utime(fresh / member.name, ns=(int(time_ns), int(time_ns)))
            (fresh / _LIST).unlink()
            for name, digest in backup.digests.items():
                with (fresh / name).open("rb") as file:
                    if hashlib.file_digest(file, "sha256").hexdigest() != digest:
                        raise BackupRefused(f"{name} could not be restored as it was backed up. Try another disk.")
            _see_that_it_is_known(fresh / _DATABASE, backup)
            move_paths(fresh / _DATABASE, fresh / "ledger", {**moved, **(places or {})})
            aside = _set_aside(data, within=mounted)
            try:
                if mounted:
                    _move_in(fresh, data)
                else:
                    os.rename(fresh, data)
            except OSError as error:
                if aside is not None and mounted:
                    _move_in(aside, data)
                elif aside is not None:
                    _bring_back(aside, data, error)
                raise
        except (tarfile.TarError, sqlite3.Error) as error:
            raise BackupRefused(f"The backup could not be restored: {error}.") from error
        finally:
            shutil.rmtree(fresh, ignore_errors=True)
    if aside is not None:
        _take_over(aside, data)
    return backup, aside


def _see_that_it_is_not_newer(backup: Backup) -> None:
    def parts(version: str) -> tuple[int, ...]:
        return tuple(int(part) for part in version.split(".") if part.isdigit())

    if parts(backup.version) > parts(rumbrel.__version__):
        text = f"This backup was made by version {backup.version} of Rumbrel; this is version {rumbrel.__version__}."
        raise BackupRefused(f"{text} Install the newer version, then restore it.")


def _see_that_it_is_known(database: Path, backup: Backup) -> None:
    """Within a version too there are newer states of the database."""
    known = set(MigrationLoader(None, ignore_no_migrations=True).disk_migrations)
    with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as kept:
        applied = set(kept.execute("SELECT app, name FROM django_migrations").fetchall())
    ours = {app for app, _ in known}
    if unknown := sorted(each for each in applied - known if each[0] in ours):
        raise BackupRefused(
            f"This backup has changes of the database that this version, {rumbrel.__version__}, does not know "
            f"({unknown[0][0]} {unknown[0][1]}; it was made by version {backup.version}). Install the newer version, then "
            "restore it."
        )


def _move_in(folder: Path, data: Path) -> None:
    """Everything in a folder to where that folder lies."""
    for entry in sorted(folder.iterdir()):
        os.rename(entry, data / entry.name)
    folder.rmdir()


def _bring_back(aside: Path, data: Path, error: OSError) -> None:
    """What was there takes its position again. Raises BackupRefused where it cannot."""
    try:
        os.rename(aside, data)
    except OSError:
        text = f"Not restored: {refusal_reason(data.parent, error)}. What was in {data} is in {aside}; give it its name back."
        raise BackupRefused(text) from error


def _take_over(aside: Path, data: Path) -> None:
    """What the backup does not hold of files."""
    for name in (*_FILES, "volumes", "pictures", "demo"):
        if (aside / name).exists() and not (data / name).exists():
            try:
                os.rename(aside / name, data / name)
            except OSError as error:
                text = (
                    f"Restored, but {name} is still in {aside}: {refusal_reason(data, error)}. Then move it to {data}."
                )
                raise BackupRefused(text) from error


_LOCK = "in-use"
"""Says that somebody works with the data folder: it stays where it is."""


def _set_aside(data: Path, *, within: bool) -> Path | None:
    if not data.exists():
        return None
    beside = data if within else data.parent
    stem = f"{data.name}.before-{timezone.now():%Y-%m-%d-%H%M%S}"
    number, aside = 1, beside / stem
    while aside.exists():
        number += 1
        aside = beside / f"{stem}-{number}"
    if not within:
        os.rename(data, aside)
        return aside
    aside.mkdir(mode=0o700)
    for entry in sorted(data.iterdir()):
        if (
            entry.name != _LOCK
            and f"{data.name}.before-" not in entry.name
            and f".{data.name}.restored." not in entry.name
        ):
            os.rename(entry, aside / entry.name)
    return aside
