"""Make accounts, change what they may do, and never lose the last one that administers."""

import unicodedata

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from rumbrel.core.errors import RumbrelError
from rumbrel.web.ui.roles import Role

from ..models import Account

__all__ = [
    "AccountRefused",
    "change_account",
    "change_password",
    "has_administrator",
    "make_account",
    "may_be_first",
]


class AccountRefused(RumbrelError):
    """An account cannot be made or changed so; the message says what to do."""


def has_administrator() -> bool:
    return Account.objects.filter(is_active=True, role=Role.ADMINISTER).exists()


def may_be_first() -> bool:
    """Whether the first account may be made without one: only while there is none at all."""
    return not Account.objects.exists()


def make_account(*, name: str, password: str, role: Role) -> Account:
    """Raises AccountRefused for a name that is taken or cannot be, and for a password that is too easy."""
    kept = unicodedata.normalize("NFKC", name).strip()
    if not kept or any(not sign.isprintable() for sign in kept) or len(kept) > 60:
        raise AccountRefused("A name has 1 to 60 characters that can be printed.")
    with transaction.atomic():
        if Account.objects.filter(name__iexact=kept).exists():
            raise AccountRefused(f"There is an account of the name {kept} already. Choose another name.")
        account = Account(name=kept, role=role)
        _set_password(account, password)
        account.save()
    return account


def change_account(*, account: Account, role: Role, is_active: bool) -> None:
    """Raises AccountRefused where nobody would be left to administer."""
    with transaction.atomic():
        others = Account.objects.filter(is_active=True, role=Role.ADMINISTER).exclude(pk=account.pk)
        if not others.exists() and not (is_active and role == Role.ADMINISTER):
            raise AccountRefused(f"{account} is the only account that administers. Give another one that role first.")
        account.role, account.is_active = role, is_active
        account.save(update_fields=["role", "is_active"])


def change_password(*, account: Account, password: str) -> None:
    """Whoever is signed in with the old one is signed out by it. Raises AccountRefused for one that is too easy."""
    _set_password(account, password)
    account.save(update_fields=["password"])


def _set_password(account: Account, password: str) -> None:
    try:
        validate_password(password, account)
    except ValidationError as error:
        raise AccountRefused(" ".join(error.messages)) from error
    account.set_password(password)
