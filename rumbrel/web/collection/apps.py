"""The collection: gather, see, pull."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, at_start, register
from rumbrel.web.ui.navigation import Entry, add_entry


class CollectionConfig(AppConfig):
    name = "rumbrel.web.collection"

    def ready(self) -> None:
        from .services import reread_old_facts, scan_folder

        add_entry(Entry(order=10, address="collection:index", label="Collection", below=("collection:",)))
        at_start(reread_old_facts)
        register(JobKind(key="scan", run=scan_folder, address=lambda folder: reverse("collection:folders")))
