"""Accounts: who may sign in, and what for."""

from django.apps import AppConfig

from rumbrel.web.ui.roles import Role, needs


class AccountsConfig(AppConfig):
    name = "rumbrel.web.accounts"

    def ready(self) -> None:
        needs(
            Role.ADMINISTER,
            *(f"accounts:{name}" for name in ("index", "add", "change", "set-password", "records", "lift")),
        )
        needs(Role.LISTEN, "accounts:password", "accounts:sign-out")
