"""Addresses of help and the gallery."""

from django.urls import path

from .views import gallery, guide, help

app_name = "ui"
urlpatterns = [
    path("help/", help.help_page, name="help"),
    path("guide/", guide.index, name="guide"),
    path("guide/pictures/<str:name>", guide.picture, name="guide-picture"),
    path("guide/<slug:slug>/", guide.page, name="guide-page"),
    path("gallery/", gallery.gallery, name="gallery"),
]
