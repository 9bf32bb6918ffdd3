"""What is done with discs."""

from .change_disc import change_disc
from .plan_layout import PlannedDisc, plan_layout
from .write_disc import settle_write, start_write, write_disc

__all__ = ["PlannedDisc", "change_disc", "plan_layout", "settle_write", "start_write", "write_disc"]
