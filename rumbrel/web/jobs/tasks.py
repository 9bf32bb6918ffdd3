"""The only tasks that are queued: one that carries out a job, and one that looks after orphaned ones."""

from huey import crontab
from huey.contrib.djhuey import db_periodic_task, db_task

from . import services


@db_task()
def run_job(job_id: int) -> None:
    services.run_job(job_id=job_id)


@db_periodic_task(crontab(minute="*"))
def look_after_jobs() -> None:
    """A job whose heart has stopped is taken up within a minute or two."""
    services.recover_jobs()
