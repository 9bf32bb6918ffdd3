"""The bench of stand-in devices."""

from django.apps import AppConfig

from rumbrel.web.ui.navigation import Entry, add_entry


class BenchConfig(AppConfig):
    name = "rumbrel.web.bench"

    def ready(self) -> None:
        add_entry(Entry(order=70, address="bench:index", label="Bench"))
