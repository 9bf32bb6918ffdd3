"""Claim a job, carry it out, and settle how it ended: the one place where whatever goes wrong is caught."""

import logging
import os
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from django.db import DatabaseError, OperationalError, connection, transaction
from django.db.models import Exists
from django.utils import timezone

from rumbrel.core.errors import Cancelled, RumbrelError
from rumbrel.core.progress import Progress, Throttle
from rumbrel.web.ui.asking import asking
from rumbrel.web.ui.outages import database_reason, outage_reason

from ..models import Job
from ..registry import Ending, JobKind, kind_for, kinds
from .control_job import queue_job

__all__ = ["SECONDS_BETWEEN_BEATS", "Desk", "run_job", "run_next", "settle"]

logger = logging.getLogger(__name__)
SECONDS_BETWEEN_NOTES = 0.4
SECONDS_BETWEEN_BEATS = 5
_SECONDS_BETWEEN_TRIES = 2
_STOPPED = "Stopped. What is finished stays, what was begun is gone."


def _worker_name() -> str:
    return f"{socket.gethostname()}:{os.getpid()}:{threading.get_ident()}"


@dataclass(slots=True)
class Desk:
    """Where a job's work reports. Reporting raises Cancelled when the user has stopped the job. failures is how many of the
    things it works on failed, where the work itself goes on."""

    job_id: int
    worker: str
    failures: int = 0
    report: Throttle = field(init=False)
    _held: bool = field(init=False, default=False)
    _looked: float = field(init=False, default=0.0)

    def __post_init__(self) -> None:
        self.report = Throttle(self._note, every_seconds=SECONDS_BETWEEN_NOTES)

    def _note(self, progress: Progress) -> None:
        mine = Job.objects.filter(pk=self.job_id, state=Job.State.RUNNING, worker=self.worker, stop_asked=False)
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
            raise Cancelled(_STOPPED)

    def check(self) -> None:
        """Raise Cancelled when the user has stopped the job, or when it was given to somebody else."""
        mine = Job.objects.filter(pk=self.job_id, state=Job.State.RUNNING, worker=self.worker, stop_asked=False)
        if not mine.exists():
            raise Cancelled(_STOPPED)

    def holding(self) -> bool:
        """Whether the job is paused, so that nothing new is to begin; asked of the database a few times a second."""
        if not self._looked or time.monotonic() - self._looked >= SECONDS_BETWEEN_NOTES:
            self._held = Job.objects.filter(pk=self.job_id, paused=True).exists()
            self._looked = time.monotonic()
        return self._held


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


def run_next() -> None:
    """Carry out the waiting job that comes first among those whose turn it can be; orders are for any of them."""
    for pk in list(Job.objects.filter(state=Job.State.WAITING).order_by("place", "pk").values_list("pk", flat=True)):
        if run_job(job_id=pk):
            return


def _claimed(job_id: int, worker: str) -> bool:
    """Take a waiting job, unless it is a kind's turn that another one has: in one statement, so that nobody can
    come between."""
    now, waiting = timezone.now(), Job.objects.filter(pk=job_id, state=Job.State.WAITING)
    in_turn = [kind.key for kind in kinds() if kind.in_turn]
    mine = waiting.filter(kind__in=in_turn).first()
    if mine is not None:
        others = Job.objects.filter(kind=mine.kind, state=Job.State.RUNNING, paused=False).exclude(pk=job_id)
        waiting = waiting.exclude(Exists(others))
    return bool(
        waiting.update(
            state=Job.State.RUNNING, worker=worker, heartbeat=now, started_at=now, ended_at=None, error="", message="",
            done=0, total=0, step="", finished=0, items=0, failures=0, paused=False,
        )
    )  # fmt: skip


def run_job(*, job_id: int) -> bool:
    """Claim a waiting job and carry it out. Whoever comes second finds it claimed and leaves, with False."""
    worker = _worker_name()
    if not _claimed(job_id, worker):
        return False
    with _heart(job_id, worker):
        job = Job.objects.get(pk=job_id)
        kind = kind_for(job.kind)
        if kind is None:
            reason = f"This version of Rumbrel knows no work of the kind '{job.kind}'."
            ending = Ending(state=Job.State.FAILED, reason=reason)
        else:
            ending = _carried_out(kind, job, worker)
        _end(job, worker, ending)
    if kind is not None and kind.in_turn:
        _call_the_next(kind.key)
    return True


def _call_the_next(kind: str) -> None:
    """The order for it may have come while it was not its turn."""
    for pk in (
        Job.objects.filter(kind=kind, state=Job.State.WAITING).order_by("place", "pk").values_list("pk", flat=True)[:1]
    ):
        queue_job(pk)


def _carried_out(kind: JobKind, job: Job, worker: str) -> Ending:
    try:
        with asking(job.owner):
            desk = Desk(job.pk, worker)
            message = kind.run(desk, job.subject)
            return Ending(state=Job.State.DONE, message=message, failures=desk.failures)
    except Cancelled:
        return Ending(state=Job.State.STOPPED)
    except RumbrelError as error:
        return Ending(state=Job.State.FAILED, reason=str(error))
    except OperationalError as error:
        logger.warning("job %s (%s) could not use the database: %s", job.pk, job.kind, error)
        return Ending(state=Job.State.FAILED, reason=database_reason(error))
    except OSError as error:
        logger.exception("job %s (%s) failed", job.pk, job.kind)
        where = f" {error.filename}" if error.filename else ""
        text = f"The system refused a file{where}: {error.strerror or type(error).__name__}. Connect its disk or free some room"
        return Ending(state=Job.State.FAILED, reason=outage_reason(error) or f"{text}, then continue.")
    except Exception as error:  # noqa: BLE001 - this is the place: whatever happens, the job ends with its reason
        logger.exception("job %s (%s) failed", job.pk, job.kind)
        text = f"It ended in an error that Rumbrel does not know ({type(error).__name__}: {error})."
        return Ending(state=Job.State.FAILED, reason=outage_reason(error) or f"{text} Continue to try again.")


def _end(job: Job, worker: str, ending: Ending) -> None:
    """Settle the job. It is tried until the database takes it: a job that has ended says so."""
    while True:
        try:
            with transaction.atomic():
                mine = Job.objects.filter(pk=job.pk, state=Job.State.RUNNING, worker=worker)
                if mine.exists():
                    settle(mine.get(), ending)
            return
        except OperationalError as error:
            logger.warning("the end of job %s could not be noted yet: %s", job.pk, error)
            time.sleep(_SECONDS_BETWEEN_TRIES)


def settle(job: Job, ending: Ending) -> None:
    """Give a running job its end, and tell its kind. What was to go on after a stop waits again."""
    kind = kind_for(job.kind)
    if kind is not None:
        try:
            with transaction.atomic():
                kind.ended(job.subject, ending)
        except OperationalError:
            raise
        except Exception:  # noqa: BLE001 - the job ends all the same, and the log says what went wrong
            logger.exception("the end of job %s (%s) could not be settled", job.pk, job.kind)
    once_more = ending.state == Job.State.DONE and not job.stop_asked
    goes_on = job.again and (ending.state == Job.State.STOPPED or once_more)
    job.state = Job.State.WAITING if goes_on else ending.state
    job.stop_asked, job.again, job.paused, job.worker = False, False, False, ""
    job.message, job.error, job.failures = ending.message, ending.reason, ending.failures
    job.ended_at = None if goes_on else timezone.now()
    if ending.state == Job.State.DONE:
        job.done = job.total
    job.save()
    if goes_on:
        queue_job(job.pk)
