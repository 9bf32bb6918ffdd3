"""Claim a job, carry it out, and settle how it ended: the one place where whatever goes wrong is caught."""

import logging
import os
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from django.db import DatabaseError, connection
from django.utils import timezone

from rumbrel.core.errors import Cancelled, RumbrelError
from rumbrel.core.progress import Progress, Throttle

from ..models import Job
from ..registry import kind_for

__all__ = ["SECONDS_BETWEEN_BEATS", "Desk", "run_job"]

logger = logging.getLogger(__name__)
SECONDS_BETWEEN_NOTES = 0.4
SECONDS_BETWEEN_BEATS = 10


def _worker_name() -> str:
    return f"{socket.gethostname()}:{os.getpid()}:{threading.get_ident()}"


@dataclass(slots=True)
class Desk:
    """Where a job's work reports. Reporting raises Cancelled when the user has stopped the job."""

    job_id: int
    worker: str
    report: Throttle = field(init=False)

    def __post_init__(self) -> None:
        self.report = Throttle(self._note, every_seconds=SECONDS_BETWEEN_NOTES)

    def _note(self, progress: Progress) -> None:
        mine = Job.objects.filter(pk=self.job_id, state=Job.State.RUNNING, worker=self.worker)
        try:
            noted = mine.update(
                heartbeat=timezone.now(), done=progress.done, total=progress.total, unit=str(progress.unit),
                step=progress.step[:60], finished=progress.finished, items=progress.items,
            )  # fmt: skip
        except DatabaseError as error:
            # A note that is not taken costs nothing: the next one says the same and more.
            logger.warning("progress of job %s could not be noted: %s", self.job_id, error)
            return
        if not noted:
            raise Cancelled("Stopped. What is finished stays, what was begun is gone.")

    def check(self) -> None:
        """Raise Cancelled when the user has stopped the job."""
        if not Job.objects.filter(pk=self.job_id, state=Job.State.RUNNING, worker=self.worker).exists():
            raise Cancelled("Stopped. What is finished stays, what was begun is gone.")


@contextmanager
def _heart(job_id: int, worker: str) -> Iterator[None]:
    """Beats while the work has nothing to report, so that nobody takes it for dead."""
    ended = threading.Event()

    def beat() -> None:
        try:
            while not ended.wait(SECONDS_BETWEEN_BEATS):
                mine = Job.objects.filter(pk=job_id, state=Job.State.RUNNING, worker=worker)
                try:
                    mine.update(heartbeat=timezone.now())
                except DatabaseError as error:
                    logger.warning("the heartbeat of job %s could not be noted: %s", job_id, error)
        finally:
            connection.close()

    thread = threading.Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


def run_job(*, job_id: int) -> None:
    """Claim a waiting job and carry it out. Whoever comes second finds it claimed and leaves."""
    worker, now = _worker_name(), timezone.now()
    waiting = Job.objects.filter(pk=job_id, state=Job.State.WAITING)
    if not waiting.update(state=Job.State.RUNNING, worker=worker, heartbeat=now, started_at=now, error="", message=""):
        return
    job = Job.objects.get(pk=job_id)
    kind = kind_for(job.kind)
    if kind is None:
        _end(job, worker, Job.State.FAILED, error=f"This version of Rumbrel knows no work of the kind '{job.kind}'.")
        return
    try:
        with _heart(job_id, worker):
            message = kind.run(Desk(job_id, worker), job.subject)
    except Cancelled:
        _end(job, worker, Job.State.STOPPED)
    except RumbrelError as error:
        _end(job, worker, Job.State.FAILED, error=str(error))
    except Exception as error:  # noqa: BLE001 - this is the place: whatever happens, the job ends with its reason
        logger.exception("job %s (%s) failed", job_id, job.kind)
        text = (
            f"It ended in an error that Rumbrel does not know ({type(error).__name__}: {error}). Continue to try again."
        )
        _end(job, worker, Job.State.FAILED, error=text)
    else:
        _end(job, worker, Job.State.DONE, message=message)
    finally:
        kind.ended(job.subject)


def _end(job: Job, worker: str, state: str, *, message: str = "", error: str = "") -> None:
    mine = Job.objects.filter(pk=job.pk, state=Job.State.RUNNING, worker=worker)
    values = {"message": message} if not error else {"error": error}
    if state == Job.State.DONE:
        values["done"] = Job.objects.values_list("total", flat=True).get(pk=job.pk)
    mine.update(state=state, ended_at=timezone.now(), worker="", **values)
