"""Back up and restore, check this installation, and keep what grows within its limits."""

from .back_up import BackupRefused, back_up, read_backup, restore
from .check_self import Check, check_self
from .limit_growth import Growth, growths, keep_within_limits

__all__ = [
    "BackupRefused",
    "Check",
    "Growth",
    "back_up",
    "check_self",
    "growths",
    "keep_within_limits",
    "read_backup",
    "restore",
]
