"""Batches: forecast, run, report."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, register
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.traces import add_trace


class BatchesConfig(AppConfig):
    name = "rumbrel.web.batches"

    def ready(self) -> None:
        from .queries import results_of_track
        from .services.run_batch import release_items, run_batch

        add_trace("track", results_of_track)
        add_entry(Entry(order=40, address="batches:index", label="Batches", below=("batches:",)))
        register(
            JobKind(
                key="batch",
                run=run_batch,
                address=lambda batch: reverse("batches:batch", args=[batch]),
                ended=lambda batch, ending: release_items(batch),
            )
        )
