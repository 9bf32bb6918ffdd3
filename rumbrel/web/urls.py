"""Every address of the application: each app brings its own."""

from django.urls import include, path

APPS = (
    "collection",
    "targets",
    "batches",
    "compare",
    "tags",
    "playlists",
    "discs",
    "bench",
    "jobs",
    "operations",
    "demo",
    "accounts",
    "ui",
)

urlpatterns = [path("", include(f"rumbrel.web.{app}.urls")) for app in APPS]
handler400 = "rumbrel.web.ui.views.errors.bad_request"
handler403 = "rumbrel.web.ui.views.errors.forbidden"
handler404 = "rumbrel.web.ui.views.errors.not_found"
handler500 = "rumbrel.web.ui.views.errors.server_error"
