"""The bench of stand-in devices."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, register
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.roles import Role, needs


class BenchConfig(AppConfig):
    name = "rumbrel.web.bench"

    def ready(self) -> None:
        from .services import (
            carry_out_delivery,
            check_volume,
            foresee_delivery,
            look_at_volume,
            make_practice_discs,
            shelve_image,
            take_in_disc,
        )

        needs(Role.ADMINISTER, "bench:add-volume")
        add_entry(Entry(order=70, address="bench:index", label="Bench", below=("bench:",)))
        register(
            JobKind(
                key="take-in",
                run=take_in_disc,
                address=lambda taken: reverse("bench:taken", args=[taken]),
                continues=True,
            )
        )
        register(JobKind(key="practice", run=make_practice_discs, address=lambda subject: reverse("bench:index")))
        register(JobKind(key="shelve", run=shelve_image, address=lambda image: reverse("bench:index")))
        for key, run in (("look-volume", look_at_volume), ("check-volume", check_volume)):
            register(JobKind(key=key, run=run, address=lambda volume: reverse("bench:volume", args=[volume])))
        for key, run in (("foresee-delivery", foresee_delivery), ("deliver", carry_out_delivery)):
            register(JobKind(key=key, run=run, address=lambda pk: reverse("bench:delivery", args=[pk]), continues=True))
