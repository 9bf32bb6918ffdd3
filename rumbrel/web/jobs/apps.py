"""Work in the background."""

from django.apps import AppConfig

from rumbrel.web.ui.navigation import Entry, add_entry


class JobsConfig(AppConfig):
    name = "rumbrel.web.jobs"

    def ready(self) -> None:
        add_entry(Entry(order=80, address="jobs:work", label="Work"))
