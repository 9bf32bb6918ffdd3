"""Running an installation: backups, self-check, what grows."""

from django.apps import AppConfig

from rumbrel.web.jobs.registry import now_and_then
from rumbrel.web.ui.roles import Role, needs


class OperationsConfig(AppConfig):
    name = "rumbrel.web.operations"

    def ready(self) -> None:
        from .services import keep_within_limits

        now_and_then(keep_within_limits)
        needs(Role.ADMINISTER, "operations:index")
