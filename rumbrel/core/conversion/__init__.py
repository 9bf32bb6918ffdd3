"""Carry out Steps: decode once, write, check, move into place."""

from .carry_out import carry_out
from .outcome import Outcome
from .pool import Progress, run_steps

__all__ = ["Outcome", "Progress", "carry_out", "run_steps"]
