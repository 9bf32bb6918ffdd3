"""Running an installation: backups, self-check, what grows."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, now_and_then, register
from rumbrel.web.ui.roles import Role, needs


class OperationsConfig(AppConfig):
    name = "rumbrel.web.operations"

    def ready(self) -> None:
        from .services import (
            carry_out_backup,
            carry_out_self_check,
            keep_within_limits,
            start_due_backup,
            start_due_self_check,
        )

        now_and_then(keep_within_limits)
        now_and_then(start_due_backup)
        now_and_then(start_due_self_check)
        register(JobKind(key="backup", run=carry_out_backup, address=lambda plan: reverse("operations:index")))
        register(JobKind(key="self-check", run=carry_out_self_check, address=lambda check: reverse("operations:index")))
        pages = ("index", "plan-backups", "back-up", "check")
        needs(Role.ADMINISTER, *(f"operations:{page}" for page in pages))
