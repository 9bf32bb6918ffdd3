"""Make accounts and change them; who signed in, and what administrators did."""

from .keep_accounts import (
    AccountRefused,
    change_account,
    change_password,
    has_administrator,
    make_account,
    may_be_first,
)
from .note_records import DAYS_KEPT, Lock, SignInRecord, forget_old_records, lift_lock, locks, note_act, sign_ins

__all__ = [
    "AccountRefused",
    "DAYS_KEPT",
    "Lock",
    "SignInRecord",
    "change_account",
    "change_password",
    "forget_old_records",
    "has_administrator",
    "lift_lock",
    "locks",
    "make_account",
    "may_be_first",
    "note_act",
    "sign_ins",
]
