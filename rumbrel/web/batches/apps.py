"""Batches: forecast, run, report."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, at_start, now_and_then, register
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.traces import add_trace


class BatchesConfig(AppConfig):
    name = "rumbrel.web.batches"

    def ready(self) -> None:
        from .queries import results_of_track
        from .services import (
            join_collection,
            keep_what_is_due,
            put_originals_back,
            run_batch,
            set_originals_aside,
            sweep_covers,
            verify_results,
        )
        from .services.run_batch import release_items

        def address(batch: int) -> str:
            return reverse("batches:batch", args=[batch])

        add_trace("track", results_of_track)
        add_entry(Entry(order=40, address="batches:index", label="Batches", below=("batches:",)))
        register(
            JobKind(
                key="batch",
                run=run_batch,
                in_turn=True,
                pauses=True,
                address=address,
                ended=lambda batch, ending: release_items(batch),
            )
        )
        register(JobKind(key="verify", run=verify_results, address=address))
        register(JobKind(key="join", run=join_collection, address=address))
        register(JobKind(key="aside", run=set_originals_aside, address=address))
        register(JobKind(key="aside-back", run=put_originals_back, address=address))
        at_start(sweep_covers)
        now_and_then(keep_what_is_due)
