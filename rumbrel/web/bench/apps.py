"""The bench of stand-in devices."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, register
from rumbrel.web.ui.navigation import Entry, add_entry


class BenchConfig(AppConfig):
    name = "rumbrel.web.bench"

    def ready(self) -> None:
        from .services import take_in_disc

        add_entry(Entry(order=70, address="bench:index", label="Bench", below=("bench:",)))
        register(
            JobKind(
                key="take-in",
                run=take_in_disc,
                address=lambda taken: reverse("bench:taken", args=[taken]),
                continues=True,
            )
        )
