"""./run account: make accounts and change them, from the machine itself."""

import getpass
import sys
from pathlib import Path
from typing import Any

from django.core.management import call_command
from django.core.management.base import CommandParser

from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.roles import Role

from ...models import Account
from ...services import AccountRefused, change_account, change_password, make_account

_ROLES = {role.said: role for role in Role}


class Command(ReportingCommand):
    help = "Make accounts and change them. The first one has to administer."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("act", choices=("list", "add", "role", "password", "off", "on"), help="what is done")
        parser.add_argument("name", nargs="?", default="", metavar="NAME", help="the account's name")
        parser.add_argument("--role", choices=tuple(_ROLES), help="with add and role: listen, work or administer")
        parser.add_argument(
            "--password-file", type=Path, metavar="FILE", help="its first line is the password, else it is asked for"
        )

    def work(self, options: dict[str, Any]) -> bool:
        call_command("migrate", verbosity=0)
        act, name = options["act"], options["name"]
        if act == "list":
            for account in Account.objects.all():
                self._say(account, options)
            return True
        if not name:
            raise AccountRefused(f"Name the account: ./run account {act} NAME.")
        if act == "add":
            first = not Account.objects.exists()
            role = _ROLES[options["role"] or ("administer" if first else "work")]
            if first and role is not Role.ADMINISTER:
                raise AccountRefused("The first account has to administer. Add --role administer.")
            self._say(make_account(name=name, password=_password(options), role=role), options)
            return True
        account = Account.objects.filter(name__iexact=name).first()
        if account is None:
            raise AccountRefused(f"There is no account of the name {name}. ./run account list shows them.")
        if act == "password":
            change_password(account=account, password=_password(options))
        else:
            role = _ROLES[options["role"]] if act == "role" and options["role"] else Role(account.role)
            if act == "role" and not options["role"]:
                raise AccountRefused("Name the role: --role listen, work or administer.")
            change_account(account=account, role=role, is_active=account.is_active if act == "role" else act == "on")
        self._say(account, options)
        return True

    def _say(self, account: Account, options: dict[str, Any]) -> None:
        record = {"name": account.name, "role": account.role_said, "active": account.is_active}
        state = "" if account.is_active else ", cannot sign in"
        self.report(record, f"{account.name}: may {account.role_said}{state}", options)


def _password(options: dict[str, Any]) -> str:
    """From the file, the terminal, or what is piped in; never from the words of the command, which others can see."""
    path = options["password_file"]
    if path is not None:
        try:
            return path.read_text(encoding="utf-8").splitlines()[0] if path.stat().st_size else ""
        except (OSError, UnicodeDecodeError) as error:
            raise AccountRefused(f"{path} cannot be read as a password.") from error
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    first, second = getpass.getpass("Password: "), getpass.getpass("Once more: ")
    if first != second:
        raise AccountRefused("The two are not the same. Try again.")
    return first
