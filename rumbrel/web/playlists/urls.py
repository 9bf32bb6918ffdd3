"""Addresses of playlists."""

from django.urls import path

from .views import playlists

app_name = "playlists"
urlpatterns = [
    path("playlists/", playlists.index, name="index"),
    path("playlists/make/", playlists.make, name="make"),
    path("playlists/import/", playlists.bring, name="bring"),
    path("playlists/<int:pk>/", playlists.playlist, name="playlist"),
    path("playlists/<int:pk>/act/<slug:name>/", playlists.act, name="act"),
    path("playlists/<int:pk>/undo/", playlists.undo_change, name="undo"),
    path("playlists/<int:pk>/search/", playlists.search, name="search"),
    path("playlists/<int:pk>/add/", playlists.add, name="add"),
    path("playlists/<int:pk>/details/", playlists.details, name="details"),
    path("playlists/<int:pk>/pull/", playlists.pull, name="pull"),
    path("playlists/<int:pk>/delete/", playlists.delete, name="delete"),
    path("playlists/<int:pk>/restore/", playlists.restore, name="restore"),
]
