"""Addresses of playlists."""

from django.urls import path

from .views import playlists

app_name = "playlists"
urlpatterns = [
    path("playlists/", playlists.index, name="index"),
    path("playlists/make/", playlists.make, name="make"),
    path("playlists/<int:pk>/", playlists.playlist, name="playlist"),
    path("playlists/<int:pk>/order/", playlists.order, name="order"),
    path("playlists/<int:pk>/delete/", playlists.delete, name="delete"),
    path("playlists/<int:pk>/restore/", playlists.restore, name="restore"),
    path("entries/<int:pk>/move/", playlists.move, name="move"),
    path("entries/<int:pk>/remove/", playlists.remove, name="remove"),
]
