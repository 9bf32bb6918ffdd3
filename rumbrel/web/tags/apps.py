"""Tags: edited for one track or many, with undo. The only thing here that changes a source."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, at_start, register
from rumbrel.web.ui.traces import add_trace


class TagsConfig(AppConfig):
    name = "rumbrel.web.tags"

    def ready(self) -> None:
        from .queries import edits_of_track
        from .services import carry_out_edit, sweep_undo

        at_start(sweep_undo)
        add_trace("track", edits_of_track)
        register(JobKind(key="tags", run=carry_out_edit, address=lambda edit: reverse("tags:edit", args=[edit])))
