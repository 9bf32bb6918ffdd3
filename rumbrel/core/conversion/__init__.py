"""Carries out Steps: decode once, encode, check, move to their destinations; on all cores."""

from .carry_out import Watch, carry_out, carry_out_group
from .landing import landed_outcome, note_landing
from .levelling import levelled, measure_all
from .outcome import Outcome
from .pool import run_steps
from .report import write_report
from .verify import verify_step

__all__ = [
    "Outcome",
    "Watch",
    "carry_out",
    "carry_out_group",
    "landed_outcome",
    "levelled",
    "measure_all",
    "note_landing",
    "run_steps",
    "verify_step",
    "write_report",
]
