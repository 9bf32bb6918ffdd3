"""Addresses of discs."""

from django.urls import path

from .views import discs

app_name = "discs"
urlpatterns = [
    path("discs/", discs.index, name="index"),
    path("discs/<int:pk>/", discs.disc, name="disc"),
    path("discs/<int:pk>/body/", discs.body, name="body"),
    path("discs/<int:pk>/change/", discs.change, name="change"),
    path("discs/<int:pk>/write/", discs.write, name="write"),
    path("discs/<int:pk>/stop/", discs.stop, name="stop"),
    path("discs/<int:pk>/image/<str:kind>/", discs.download, name="image"),
    path("playlists/<int:pk>/disc/", discs.lay_out, name="lay-out"),
]
