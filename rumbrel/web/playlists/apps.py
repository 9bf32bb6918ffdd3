"""Playlists."""

from django.apps import AppConfig

from rumbrel.web.jobs.registry import at_start
from rumbrel.web.ui.navigation import Entry, add_entry
from rumbrel.web.ui.removal import Holder, add_holder
from rumbrel.web.ui.traces import add_trace


class PlaylistsConfig(AppConfig):
    name = "rumbrel.web.playlists"

    def ready(self) -> None:
        from .queries import lists_with_track
        from .services import forget_lists, lists_said, settle_lists

        add_holder("track", Holder(said=lists_said, settle=settle_lists))
        add_trace("track", lists_with_track)
        at_start(forget_lists)
        add_entry(
            Entry(order=50, address="playlists:index", label="Playlists", below=("playlists:", "batches:export-list"))
        )
