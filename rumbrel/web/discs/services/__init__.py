"""What is done with discs."""

from .change_disc import change_disc
from .lose_lists import discs_refuse, discs_said, settle_discs
from .plan_layout import PlannedDisc, plan_layout
from .write_disc import settle_write, start_write, write_disc

__all__ = [
    "PlannedDisc",
    "change_disc",
    "discs_refuse",
    "discs_said",
    "plan_layout",
    "settle_discs",
    "settle_write",
    "start_write",
    "write_disc",
]
