"""What ties Rumbrel's processes together: one instance for each data folder, and nobody outlives the parent."""

import fcntl
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import rumbrel
from rumbrel.core.errors import RumbrelError
from rumbrel.core.files import output_errors

__all__ = ["AlreadyRunning", "claim_data_folder", "die_with_parent", "start_part"]

_LIFELINE = "RUMBREL_LIFELINE"
_SECONDS_TO_LET_GO = 3
_claims: dict[Path, int] = {}


class AlreadyRunning(RumbrelError):
    """Another instance works in the same data folder."""


def claim_data_folder(data: Path) -> int:
    """Take the data folder for this process and the parts that it starts; returns the descriptor that holds it.

    Whoever has it keeps it until the last of its processes has ended. Raises AlreadyRunning, OutputError.
    """
    if data in _claims:
        return _claims[data]
    with output_errors(data):
        handle = os.open(data / "in-use", os.O_RDWR | os.O_CREAT, 0o600)
    until = time.monotonic() + _SECONDS_TO_LET_GO
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except BlockingIOError as error:
            # The parts of an instance that was just killed need a moment.
            if time.monotonic() > until:
                os.close(handle)
                raise AlreadyRunning(
                    f"Rumbrel is running with {data} already. End it there first, or give this one a folder of its "
                    "own with RUMBREL_DATA."
                ) from error
            time.sleep(0.1)
    _claims[data] = handle
    return handle


def start_part(words: list[str], *, claim: int, lifeline: int) -> "subprocess.Popen[bytes]":
    """Start a command of ours as a part of this instance: it ends when the other end of the lifeline closes,
    which happens in whatever way this process ends. Groups of their own: Ctrl-C comes to the parent alone."""
    above = str(Path(rumbrel.__file__).resolve().parents[1])
    places = os.pathsep.join([above, *filter(None, [os.environ.get("PYTHONPATH")])])
    return subprocess.Popen(
        [sys.executable, "-m", "rumbrel", *words],
        start_new_session=True,
        pass_fds=(claim, lifeline),
        env={**os.environ, _LIFELINE: str(lifeline), "PYTHONPATH": places},
    )


def die_with_parent() -> None:
    """End this process when the one that started it is gone. Its workers see that in turn and let go of
    what they began."""
    text = os.environ.pop(_LIFELINE, "")
    if not text:
        return

    def watch() -> None:
        os.read(int(text), 1)
        os._exit(1)

    threading.Thread(target=watch, name="lifeline", daemon=True).start()
