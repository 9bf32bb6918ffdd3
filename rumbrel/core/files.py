"""Files that appear whole or not at all; copies that are compared; what a kill left behind is swept.

Everything that writes goes through here: a hidden working file or folder beside the destination, then
a rename. The system's errors come out as OutputError with what to do.
"""

import errno
import fcntl
import hashlib
import logging
import os
import shutil
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

import xxhash

from .errors import CheckFailed, DecodeError, OutputError

__all__ = [
    "Settling",
    "content_mark",
    "copy_compared",
    "file_digest",
    "file_identity",
    "is_working",
    "move_into_place",
    "not_written",
    "output_errors",
    "refusal_reason",
    "refused_by_system",
    "refused_now",
    "remove_leftovers",
    "remove_working",
    "settle_folder",
    "working_file",
    "working_folder",
    "working_path",
    "write_whole",
    "sha256_of",
]

logger = logging.getLogger(__name__)
_REASONS = {
    errno.ENOSPC: "there is no room left at {folder}. Free some space, then continue",
    errno.EDQUOT: "your share of {folder} is used up. Free some space, then continue",
    errno.EROFS: "{folder} can only be read. Choose another destination",
    errno.EACCES: "Rumbrel may not write in {folder}. Change its permissions or choose another destination",
    errno.EPERM: "Rumbrel may not write in {folder}. Change its permissions or choose another destination",
    errno.ENOENT: "{folder} is no longer there. Connect it again, then continue",
    errno.ENOTDIR: "{folder} is not a folder. Choose another destination",
    errno.EEXIST: "{folder} is not a folder. Choose another destination",
    errno.ENAMETOOLONG: "the name is too long for {folder}. Shorten it",
    errno.EFBIG: "the file is larger than {folder} can take",
}
_PREFIX, _SUFFIX = ".rumbrel-", ".part"
_COPY_BYTES = 1 << 20
_SECONDS_FOR_ANOTHER = 8.0
_SECONDS_BETWEEN_TRIES = 0.1


@contextmanager
def output_errors(folder: Path) -> Iterator[None]:
    """Turn the system's errors about a destination into OutputError with what to do."""
    try:
        yield
    except OSError as error:
        raise OutputError(f"Not written: {refusal_reason(folder, error)}.") from error


def refusal_reason(folder: Path, error: OSError) -> str:
    """Why the system did not write in a folder and what to do, to go into a sentence."""
    return _REASONS.get(error.errno or 0, "{folder} could not be written: " + (error.strerror or str(error))).format(
        folder=folder
    )


def refused_by_system(error: BaseException) -> OSError | None:
    """The system's error that a library's is, or hands on as its only content."""
    inner = error.args[0] if len(error.args) == 1 else None
    return error if isinstance(error, OSError) else inner if isinstance(inner, OSError) else None


def not_written(working: Path, why: str) -> OutputError:
    """What to raise where a library could not write a working file; why, a part of a sentence, is said where the disk is
    not the reason."""
    return refused_now(working) or OutputError(f"The result could not be written: {why}.")


def refused_now(working: Path) -> OutputError | None:
    """Whether the disk takes no more of a working file that is thrown away: libraries seldom say what the system told
    them, so a piece is written behind it, and what that meets is returned."""
    try:
        with working.open("ab", buffering=0) as file:
            # Of the first a disk with too little room may take a part; the second says why.
            for _ in range(2):
                file.write(bytes(_COPY_BYTES))
            os.fsync(file.fileno())
    except OSError as error:
        return OutputError(f"Not written: {refusal_reason(working.parent, error)}.")
    return None


def working_path(output: Path) -> Path:
    """The working file of an output; the same at every run, so that what a kill leaves is written over."""
    mark = hashlib.sha256(os.fsencode(output.name)).hexdigest()[:16]
    return output.with_name(f"{_PREFIX}{mark}{_SUFFIX}")


def is_working(name: str) -> bool:
    """Whether a file's name is one of working_path."""
    return name.startswith(_PREFIX) and name.endswith(_SUFFIX)


@contextmanager
def working_file(output: Path) -> Iterator[Path]:
    """A path to write to, in the output's folder; whatever is left of it is removed at the end.

    It is locked while it is worked on, so that another run neither writes it nor sweeps it away. Another's
    is waited for a few seconds: a worker whose run was killed needs a moment to let go. Raises OutputError.
    """
    with output_errors(output.parent):
        output.parent.mkdir(parents=True, exist_ok=True)
        path = working_path(output)
        lock = _locked(path, output)
    with lock:
        try:
            yield path
        finally:
            remove_working(path)


def remove_working(path: Path) -> None:
    """Remove a working file, if it is there. Where that cannot be done, it stays for the next run to write over: what made
    it so is being told already, or would keep the next one from its work."""
    try:
        # The folder may have vanished with the file in it: then nothing half-written is left either.
        path.unlink(missing_ok=True)
    except OSError as error:
        logger.warning("%s could not be removed: %s", path, error.strerror)


def _locked(path: Path, output: Path) -> BinaryIO:
    """The working file, open and locked, and still the one of that name."""
    until = time.monotonic() + _SECONDS_FOR_ANOTHER
    while True:
        lock = path.open("ab")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            # The last holder may have renamed or removed it between our opening and our locking.
            with suppress(FileNotFoundError):
                if path.stat().st_ino == os.fstat(lock.fileno()).st_ino:
                    return lock
        except BlockingIOError as error:
            if time.monotonic() > until:
                lock.close()
                raise OutputError(f"Not written: another run is writing {output.name} just now.") from error
        lock.close()
        time.sleep(_SECONDS_BETWEEN_TRIES)


@contextmanager
def working_folder(output: Path) -> Iterator[Path]:
    """An empty hidden folder beside the output, for results of several files; it is removed at the end."""
    path = working_path(output)
    with output_errors(output.parent):
        output.parent.mkdir(parents=True, exist_ok=True)
        shutil.rmtree(path, ignore_errors=True)
        path.mkdir()
    try:
        yield path
    finally:
        shutil.rmtree(path, ignore_errors=True)


def settle_folder(folder: Path) -> None:
    """Bring the content of all files below to the disk, before what they are in gets its name. Raises OutputError."""
    with output_errors(folder.parent):
        for path in folder.rglob("*"):
            if path.is_file():
                with path.open("rb") as file:
                    os.fsync(file.fileno())


def remove_leftovers(folder: Path, *, below: bool = True) -> int:
    """Remove working files that a killed run left in a folder and below it; those in use are locked and stay."""
    removed = 0
    for inner, folders, names in os.walk(folder):
        if not below:
            folders.clear()
        for name in names:
            if not is_working(name):
                continue
            path = Path(inner, name)
            with suppress(FileNotFoundError, BlockingIOError):
                removed += _swept(path)
    return removed


def _swept(path: Path) -> bool:
    try:
        with path.open("ab") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            path.unlink()
    except OSError as error:
        if error.errno not in (errno.EROFS, errno.EACCES, errno.EPERM):
            raise
        logger.warning("%s could not be removed: %s", path, error.strerror)
        return False
    return True


class Settling:
    """Brings a finished file's content to the disk in a thread of its own, while the file is checked."""

    def __init__(self, working: Path) -> None:
        self._error: OSError | None = None
        self._thread = threading.Thread(target=self._settle, args=(working,))
        self._thread.start()

    def _settle(self, working: Path) -> None:
        try:
            with working.open("rb") as file:
                os.fsync(file.fileno())
        except OSError as error:
            self._error = error

    def join(self) -> None:
        self._thread.join()

    def wait(self) -> None:
        """Raises OSError when the disk did not take the content."""
        self.join()
        if self._error is not None:
            raise self._error


def move_into_place(working: Path, output: Path, *, replaces: bool, settling: Settling | None = None) -> None:
    """Rename a finished file once it is on the disk. Raises OutputError when a file of that name appeared."""
    with output_errors(output.parent):
        (settling or Settling(working)).wait()
        if output.exists() and not replaces:
            raise OutputError(f"Not written: {output.name} appeared in the meantime and is kept.")
        working.replace(output)


def write_whole(path: Path, content: bytes | str) -> None:
    """Write a small file, over an older one of that name. Raises OutputError; then the older one is as it was.

    Signs that UTF-8 cannot hold, which stand for undecodable bytes of names, are written as those bytes.
    """
    raw = content.encode("utf-8", "surrogateescape") if isinstance(content, str) else content
    with working_file(path) as working, output_errors(path.parent):
        working.write_bytes(raw)
        move_into_place(working, path, replaces=True)


def sha256_of(path: Path) -> str:
    """SHA-256 of a file's bytes, as any other program says it. Raises OSError."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def file_digest(path: Path) -> str:
    """XXH3, 128 bit, of a file's bytes. Raises DecodeError when it cannot be read."""
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, xxhash.xxh3_128).hexdigest()
    except OSError as error:
        raise DecodeError(f"{path} cannot be read: {error.strerror}.") from error


_PIECE_BYTES = 16 * 1024


def file_identity(path: Path) -> list[int]:
    """What a file is known by under another name too, as long as nothing is written to it. Raises OSError."""
    status = os.stat(path)
    return [status.st_ino, status.st_size, status.st_mtime_ns]


def content_mark(path: Path, size_bytes: int) -> str:
    """XXH3, 128 bit, of a file's size and of three pieces of it (the whole of a small one): enough to know a
    file again that was moved or renamed, at the price of a header. Raises OSError."""
    digest = xxhash.xxh3_128(str(size_bytes).encode())
    with path.open("rb", buffering=0) as file:
        if size_bytes <= 3 * _PIECE_BYTES:
            digest.update(file.read())
        else:
            for at in (0, (size_bytes - _PIECE_BYTES) // 2, size_bytes - _PIECE_BYTES):
                digest.update(os.pread(file.fileno(), _PIECE_BYTES, at))
    return digest.hexdigest()


def copy_compared(source: Path, working: Path, *, report: Callable[[int], None] = lambda size: None) -> tuple[str, int]:
    """Copy byte for byte, read back from the disk and compare. Returns (digest, bytes).

    report takes the bytes done. Raises DecodeError for the source, OutputError for the destination,
    CheckFailed when the copy does not read back.
    """
    digest, size = xxhash.xxh3_128(), 0
    try:
        reading = source.open("rb")
    except OSError as error:
        raise DecodeError(f"{source.name} cannot be read: {error.strerror}.") from error
    with reading, output_errors(working.parent), working.open("wb") as writing:
        while chunk := _chunk(reading, source):
            digest.update(chunk)
            writing.write(chunk)
            size += len(chunk)
            report(size)
        writing.flush()
        os.fsync(writing.fileno())
        # Out of memory's copy, so that the comparison reads the disk itself.
        os.posix_fadvise(writing.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
    if file_digest(working) != digest.hexdigest():
        raise CheckFailed("The copy does not read back as it was written. Check the disk.")
    return digest.hexdigest(), size


def _chunk(reading: BinaryIO, source: Path) -> bytes:
    """The next piece; an error of the source is not one of the destination."""
    try:
        return reading.read(_COPY_BYTES)
    except OSError as error:
        raise DecodeError(f"{source.name} cannot be read: {error.strerror}.") from error
