"""Carries out Steps: decode once, encode, check, move into place; on all cores."""

from .carry_out import Watch, carry_out, carry_out_group
from .levelling import levelled, measure_all
from .outcome import Outcome
from .placing import remove_leftovers
from .pool import Progress, default_jobs, run_steps
from .report import write_report
from .verify import verify_step

__all__ = [
    "Outcome",
    "Progress",
    "Watch",
    "carry_out",
    "carry_out_group",
    "default_jobs",
    "levelled",
    "measure_all",
    "remove_leftovers",
    "run_steps",
    "verify_step",
    "write_report",
]
