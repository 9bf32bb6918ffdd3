"""Addresses of work in the background."""

from django.urls import path

from .views import health, work

app_name = "jobs"
urlpatterns = [
    path("health/", health.health, name="health"),
    path("work/", work.index, name="work"),
    path("work/list/", work.listing, name="list"),
    path("work/head/", work.head, name="head"),
    path("work/<int:pk>/stop/", work.stop, name="stop"),
    path("work/<int:pk>/continue/", work.resume, name="continue"),
]
