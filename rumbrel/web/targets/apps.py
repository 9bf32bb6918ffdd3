"""Targets and what plays where."""

from django.apps import AppConfig

from rumbrel.web.ui.navigation import Entry, add_entry


class TargetsConfig(AppConfig):
    name = "rumbrel.web.targets"

    def ready(self) -> None:
        add_entry(Entry(order=20, address="targets:where", label="What plays where"))
        add_entry(Entry(order=30, address="targets:index", label="Targets"))
