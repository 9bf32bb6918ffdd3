"""The collection: gather, see, pull."""

from django.apps import AppConfig
from django.urls import reverse

from rumbrel.web.jobs.registry import JobKind, at_start, now_and_then, register
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.roles import Role, needs


class CollectionConfig(AppConfig):
    name = "rumbrel.web.collection"

    def ready(self) -> None:
        from .services import (
            carry_out_bag,
            carry_out_fixity,
            carry_out_looks,
            carry_out_removal,
            carry_out_removal_of_missing,
            look_at_watched,
            reread_old_facts,
            scan_folder,
            start_due_fixity,
            sweep_pictures,
        )

        needs(
            Role.ADMINISTER, "collection:add-folder", "collection:rename-folder", "collection:remove-folder",
            "collection:folder-removed", "collection:watch-folder", "collection:plan-fixity", "collection:believe-loss",
            "collection:remove-missing", "collection:browse", "collection:count-files",
        )  # fmt: skip
        needs(
            Role.LISTEN, "collection:pull", "collection:pull-all", "collection:pull-some", "collection:clear-pull",
            "collection:undo-clear", "collection:keep-view", "collection:remove-view", "collection:restore-view",
        )  # fmt: skip
        add_entry(
            Entry(order=10, address="collection:index", label="Collection", below=("collection:", "tags:", "compare:"))
        )
        at_start(reread_old_facts)
        at_start(sweep_pictures)
        now_and_then(look_at_watched)
        now_and_then(start_due_fixity)
        register(
            JobKind(key="bag", run=carry_out_bag, address=lambda work: reverse("collection:fixity"), continues=False)
        )
        register(JobKind(key="fixity", run=carry_out_fixity, address=lambda work: reverse("collection:fixity")))
        register(JobKind(key="look", run=carry_out_looks, address=_look_address))
        for key, run in (("remove-folder", carry_out_removal), ("remove-missing", carry_out_removal_of_missing)):
            register(JobKind(key=key, run=run, address=lambda folder: reverse("collection:folders"), continues=True))
        register(JobKind(key="scan", run=scan_folder, address=lambda folder: reverse("collection:folders")))


def _look_address(work_id: int) -> str:
    """The track that is looked at, or the collection where there are several."""
    from .models import LookWork

    work = LookWork.objects.filter(pk=work_id).first()
    if work is not None and len(work.track_ids) == 1:
        return reverse("collection:track", args=work.track_ids)
    return reverse("collection:index")
