"""Compare: hear a source beside what is made of it."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, register


class CompareConfig(AppConfig):
    name = "rumbrel.web.compare"

    def ready(self) -> None:
        from .services import carry_out_comparison

        register(
            JobKind(
                key="compare",
                run=carry_out_comparison,
                address=lambda comparison: reverse("compare:comparison", args=[comparison]),
            )
        )
