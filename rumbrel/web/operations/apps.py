"""Running an installation: backups, self-check, what grows."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, now_and_then, register
from rumbrel.web.ui.roles import Role, needs


class OperationsConfig(AppConfig):
    name = "rumbrel.web.operations"

    def ready(self) -> None:
        from .services import carry_out_backup, keep_within_limits, start_due_backup

        now_and_then(keep_within_limits)
        now_and_then(start_due_backup)
        register(JobKind(key="backup", run=carry_out_backup, address=lambda plan: reverse("operations:index")))
        needs(Role.ADMINISTER, "operations:index", "operations:plan-backups", "operations:back-up")
