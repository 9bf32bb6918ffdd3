"""Results appear complete or not at all: a hidden working file beside the place, then a rename."""

import errno
import fcntl
import hashlib
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rumbrel.core.errors import OutputError

__all__ = ["Settling", "move_into_place", "output_errors", "remove_leftovers", "working_file", "working_path"]

_REASONS = {
    errno.ENOSPC: "there is no room left at {place}. Free some space, then continue",
    errno.EDQUOT: "your share of {place} is used up. Free some space, then continue",
    errno.EROFS: "{place} can only be read. Choose another place",
    errno.EACCES: "Rumbrel may not write in {place}. Change its permissions or choose another place",
    errno.EPERM: "Rumbrel may not write in {place}. Change its permissions or choose another place",
    errno.ENOENT: "{place} is not there any more. Connect it again, then continue",
    errno.ENOTDIR: "{place} is not a folder. Choose another place",
    errno.EEXIST: "{place} is not a folder. Choose another place",
    errno.ENAMETOOLONG: "the name is too long for {place}. Shorten it",
    errno.EFBIG: "the file is larger than {place} can take",
}
_PREFIX, _SUFFIX = ".rumbrel-", ".part"


@contextmanager
def output_errors(place: Path) -> Iterator[None]:
    """Turn the system's errors about a place into OutputError with what to do."""
    try:
        yield
    except OSError as error:
        reason = _REASONS.get(error.errno or 0, "{place} could not be written: " + (error.strerror or str(error)))
        raise OutputError(f"Not written: {reason.format(place=place)}.") from error


def working_path(output: Path) -> Path:
    """The working file of an output; the same at every run, so that what a kill leaves is written over."""
    mark = hashlib.sha256(os.fsencode(output.name)).hexdigest()[:16]
    return output.with_name(f"{_PREFIX}{mark}{_SUFFIX}")


@contextmanager
def working_file(output: Path) -> Iterator[Path]:
    """A path to write to, in the output's folder; whatever is left of it is removed at the end.

    It is locked while it is worked on, so that another run neither writes it nor sweeps it away.
    """
    with output_errors(output.parent):
        output.parent.mkdir(parents=True, exist_ok=True)
        path = working_path(output)
        lock = path.open("ab")
    with lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise OutputError(f"Not written: another run is writing {output.name} just now.") from error
        try:
            yield path
        finally:
            # The folder may have vanished with the file in it: then nothing half-written is left either.
            if path.exists():
                path.unlink()


def remove_leftovers(folder: Path) -> int:
    """Remove working files that a killed run left below a folder; those in use are locked and stay."""
    removed = 0
    for inner, _, names in os.walk(folder):
        for name in names:
            if not (name.startswith(_PREFIX) and name.endswith(_SUFFIX)):
                continue
            path = Path(inner, name)
            with suppress(FileNotFoundError, BlockingIOError), path.open("ab") as file:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                path.unlink()
                removed += 1
    return removed


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
