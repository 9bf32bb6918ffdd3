"""./run work: lend this machine's cores to a serving machine, by the work list in Redis."""

import os
import signal
import sys
import threading
import time
from multiprocessing import get_context
from types import FrameType
from typing import Any

from django.conf import settings
from django.core.management.base import CommandParser

from rumbrel.core.conversion.hands import Mounts, take_steps, worker_name
from rumbrel.core.conversion.work_list import WorkList, WorkListLost, connected
from rumbrel.core.crew import default_jobs
from rumbrel.web.ui.commands import ReportingCommand

from ...processes import die_with_parent

_SECONDS_BETWEEN_LOOKS = 1.0
_SECONDS_TO_COME_BACK = 5.0


def _mounts() -> Mounts:
    ours = settings.RUMBREL
    here = tuple(here for _, here in ours.mounts)
    return Mounts(pairs=ours.mounts, allowed=(*here, *ours.roots, ours.data))


def _work(number: int, address: str, mounts: Mounts) -> None:
    """A worker process: it comes back to a work list that was away."""
    import redis

    ended = threading.Event()
    threading.Thread(target=_end_with, args=(os.getppid(),), name="parent", daemon=True).start()
    signal.signal(signal.SIGTERM, lambda signum, frame: ended.set())
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while not ended.is_set():
        try:
            take_steps(WorkList(connected(address)), worker_name(number), mounts, ended=ended)
        except (redis.RedisError, WorkListLost):
            ended.wait(_SECONDS_TO_COME_BACK)


def _end_with(parent: int) -> None:
    """No worker outlives the command that started it, however that ends."""
    while os.getppid() == parent:
        time.sleep(_SECONDS_BETWEEN_LOOKS)
    os._exit(1)


class Command(ReportingCommand):
    help = "Take steps from the work list of a serving machine (RUMBREL_REDIS_URL) and carry them out here."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument(
            "--jobs", type=int, default=default_jobs(), metavar="N", help="at once; default: one per core"
        )

    def work(self, options: dict[str, Any]) -> bool:
        address = settings.RUMBREL.redis_url
        if not address:
            raise WorkListLost(
                "Name the address of the work list: RUMBREL_REDIS_URL=redis://serving-machine:6379/0 ./run work."
            )
        die_with_parent()
        connected(address).close()
        signal.signal(signal.SIGTERM, _stop)
        crew = _Workers(max(1, options["jobs"]), address)
        self.stdout.write(f"{crew.count} workers take steps from {address.rpartition('@')[2]} (Ctrl-C ends it).")
        self.stdout.flush()
        try:
            while True:
                crew.look()
                time.sleep(_SECONDS_BETWEEN_LOOKS)
        finally:
            crew.end()


def _stop(signum: int, frame: FrameType | None) -> None:
    sys.exit(0)


class _Workers:
    """As many as there are to be: one that dies is replaced, and what it had in hand is taken up by the others."""

    def __init__(self, count: int, address: str) -> None:
        self.count, self._address = count, address
        self._context: Any = get_context("spawn" if threading.active_count() > 1 else "fork")
        self._running: dict[int, Any] = {}

    def look(self) -> None:
        for number in range(self.count):
            process = self._running.get(number)
            if process is None or not process.is_alive():
                self._running[number] = self._context.Process(
                    target=_work, args=(number, self._address, _mounts()), daemon=True
                )
                self._running[number].start()

    def end(self) -> None:
        for process in self._running.values():
            process.terminate()
        for process in self._running.values():
            process.join(timeout=10)
