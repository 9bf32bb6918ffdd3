"""Back up and restore, check this installation, and keep what grows within its limits."""

from .back_up import BackupRefused, back_up, read_backup, restore
from .check_self import Check, check_self
from .keep_check import KeptCheck, carry_out_self_check, kept_check, start_due_self_check, start_self_check
from .limit_growth import Growth, growths, keep_within_limits
from .look_for_files import MissingPlace, missing_places
from .plan_backups import (
    backup_plan,
    backups_in,
    carry_out_backup,
    change_backup_plan,
    restore_drill,
    start_backup,
    start_due_backup,
)

__all__ = [
    "BackupRefused",
    "Check",
    "Growth",
    "MissingPlace",
    "back_up",
    "backup_plan",
    "backups_in",
    "carry_out_backup",
    "change_backup_plan",
    "restore_drill",
    "start_backup",
    "start_due_backup",
    "KeptCheck",
    "carry_out_self_check",
    "kept_check",
    "start_due_self_check",
    "start_self_check",
    "check_self",
    "growths",
    "keep_within_limits",
    "missing_places",
    "read_backup",
    "restore",
]
