"""Addresses of tags."""

from django.urls import path

from .views import tags

app_name = "tags"
urlpatterns = [
    path("tags/", tags.tags, name="tags"),
    path("tags/preview/", tags.preview, name="preview"),
    path("tags/write/", tags.write, name="write"),
    path("tags/edits/", tags.edit_list, name="edits"),
    path("tags/edits/<int:pk>/", tags.edit, name="edit"),
    path("tags/edits/<int:pk>/files/", tags.edit_files, name="edit-files"),
    path("tags/edits/<int:pk>/again/", tags.again, name="again"),
    path("tags/edits/<int:pk>/undo/", tags.undo, name="undo"),
]
