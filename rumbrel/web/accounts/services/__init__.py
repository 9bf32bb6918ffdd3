"""Make accounts and change them."""

from .keep_accounts import (
    AccountRefused,
    change_account,
    change_password,
    has_administrator,
    make_account,
    may_be_first,
)

__all__ = [
    "AccountRefused",
    "change_account",
    "change_password",
    "has_administrator",
    "make_account",
    "may_be_first",
]
