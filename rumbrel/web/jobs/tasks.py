"""The only task that is queued: one that carries out a job. Which one waits longest is seen when it begins."""

from huey.contrib.djhuey import db_task

from . import services


@db_task()
def run_job(job_id: int) -> None:
    services.run_next()
