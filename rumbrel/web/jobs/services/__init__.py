"""What is done with jobs."""

from .control_job import continue_job, start_job, stop_job
from .recover_jobs import recover_jobs
from .run_job import Desk, run_job

__all__ = ["Desk", "continue_job", "recover_jobs", "run_job", "start_job", "stop_job"]
