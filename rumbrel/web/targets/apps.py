"""Targets and what plays where."""

from django.apps import AppConfig
from django.conf import settings
from django.urls import reverse

from rumbrel.core.targets.catalogue import use_own_targets
from rumbrel.web.jobs.registry import JobKind, register
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.roles import Role, needs


class TargetsConfig(AppConfig):
    name = "rumbrel.web.targets"

    def ready(self) -> None:
        from .services import carry_out_holding

        register(
            JobKind(
                key="spec",
                run=carry_out_holding,
                address=lambda check: reverse("targets:specification", args=[check]),
            )
        )
        use_own_targets(lambda: settings.RUMBREL.targets)
        needs(
            Role.ADMINISTER, *(f"targets:{name}" for name in ("add", "keep", "remove", "put-back", "edit", "offered"))
        )
        needs(Role.LISTEN, "targets:pull-group")
        add_entry(Entry(order=20, address="targets:where", label="What plays where"))
        add_entry(
            Entry(
                order=30,
                address="targets:index",
                label="Targets",
                below=("targets:target", "targets:edit", "targets:keep", "targets:specification"),
            )
        )
