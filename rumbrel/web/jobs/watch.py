"""Looks after the jobs while work is done: takes up what was orphaned, queues what was forgotten, begins what is due."""

import logging
import threading
import time

from django.conf import settings
from django.db import DatabaseError, connection
from huey.contrib.djhuey import HUEY

from rumbrel.core.errors import RumbrelError

from .models import Job
from .registry import regular_actions
from .services import recover_jobs

__all__ = ["SECONDS_BETWEEN_LOOKS", "Rounds", "Watch", "beat", "seconds_since_beat"]

logger = logging.getLogger(__name__)
SECONDS_BETWEEN_LOOKS = 5
_SECONDS_BETWEEN_ROUNDS = 60
_LATE_SECONDS = 3 * SECONDS_BETWEEN_LOOKS


_HEART = "work-alive"


def beat() -> None:
    """Say that jobs are being looked after. On a full disk it cannot be said, and the work goes on."""
    try:
        (settings.RUMBREL.data / _HEART).touch()
    except OSError as error:
        logger.warning("that the jobs are looked after could not be noted: %s", error)


def seconds_since_beat() -> float | None:
    """How long ago that was said; None where it never was. After a clock was set back the last time lies ahead: until
    it is said anew, that says as little as if it lay as far behind."""
    try:
        return abs(time.time() - (settings.RUMBREL.data / _HEART).stat().st_mtime)
    except OSError:
        return None


class Watch(threading.Thread):
    """One in each process that carries out jobs."""

    def __init__(self) -> None:
        super().__init__(name="watch", daemon=True)
        self._looked_at, self._run_for = time.time(), time.monotonic()

    def run(self) -> None:
        beat()
        while True:
            time.sleep(SECONDS_BETWEEN_LOOKS)
            self.look()

    def look(self) -> None:
        """Judge whose heart has stopped, unless this watch itself was held up, or the clock was moved: then what the
        hearts said last tells nothing, and they get the time to beat first."""
        try:
            beat()
            # Waits where the database is locked, as every heart does.
            Job.objects.filter(pk=0).update(worker="")
            passed, ran = time.time() - self._looked_at, time.monotonic() - self._run_for
            late = max(passed, ran) > _LATE_SECONDS or abs(passed - ran) > SECONDS_BETWEEN_LOOKS
            self._looked_at, self._run_for = time.time(), time.monotonic()
            if not late:
                recover_jobs(nothing_queued=not HUEY.pending_count())
        except DatabaseError as error:
            logger.warning("the jobs could not be looked after: %s", error)
        finally:
            connection.close()


class Rounds(threading.Thread):
    """What is to be done now and then, beside the watch: a folder on a disk that does not answer holds up nothing else."""

    def __init__(self) -> None:
        super().__init__(name="rounds", daemon=True)

    def run(self) -> None:
        while True:
            time.sleep(_SECONDS_BETWEEN_ROUNDS)
            self.go_round()

    def go_round(self) -> None:
        """One action that fails does not keep the others from their turn."""
        for action in regular_actions():
            try:
                action()
            except (DatabaseError, OSError, RumbrelError) as error:
                logger.warning("%s could not be done now: %s", action.__name__, error)
            finally:
                connection.close()
