"""Addresses of help and the gallery."""

from django.urls import path

from .views import gallery, help

app_name = "ui"
urlpatterns = [
    path("help/", help.help_page, name="help"),
    path("gallery/", gallery.gallery, name="gallery"),
]
