"""Discs: a playlist on a medium."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, register
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.removal import Holder, add_holder
from rumbrel.web.ui.traces import add_trace


class DiscsConfig(AppConfig):
    name = "rumbrel.web.discs"

    def ready(self) -> None:
        from .queries import discs_with_track
        from .services import (
            carry_out_copy,
            discs_refuse,
            discs_said,
            make_flac,
            make_wav,
            measure_sounds,
            settle_copy,
            settle_discs,
            settle_write,
            write_disc,
        )

        add_entry(Entry(order=60, address="discs:index", label="Discs", below=("discs:",)))
        add_holder("playlist", Holder(said=discs_said, refuses=discs_refuse, settle=settle_discs))
        add_trace("track", discs_with_track)
        register(
            JobKind(
                key="disc-write",
                run=write_disc,
                address=lambda disc: reverse("discs:writing", args=[disc]),
                continues=False,
                ended=settle_write,
            )
        )
        register(
            JobKind(
                key="disc-copy",
                run=carry_out_copy,
                address=lambda copy: reverse("discs:copy", args=[copy]),
                continues=False,
                ended=settle_copy,
            )
        )
        register(
            JobKind(
                key="disc-measure",
                run=measure_sounds,
                address=lambda disc: reverse("discs:disc", args=[disc]),
                continues=True,
            )
        )
        for key, run in (("disc-wav", make_wav), ("disc-flac", make_flac)):
            register(
                JobKind(key=key, run=run, address=lambda disc: reverse("discs:writing", args=[disc]), continues=False)
            )
