"""Playlists."""

from django.apps import AppConfig

from rumbrel.web.ui.navigation import Entry, add_entry


class PlaylistsConfig(AppConfig):
    name = "rumbrel.web.playlists"

    def ready(self) -> None:
        add_entry(Entry(order=50, address="playlists:index", label="Playlists", below=("playlists:",)))
