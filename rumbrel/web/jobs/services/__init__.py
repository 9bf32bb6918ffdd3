"""What is done with jobs."""

from .control_job import continue_job, pause_job, put_first, start_job, stop_job, unpause_job
from .recover_jobs import recover_jobs
from .run_job import Desk, run_job, run_next

__all__ = [
    "Desk",
    "continue_job",
    "pause_job",
    "put_first",
    "recover_jobs",
    "run_job",
    "run_next",
    "start_job",
    "stop_job",
    "unpause_job",
]
