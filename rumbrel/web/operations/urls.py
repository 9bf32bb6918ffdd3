"""Addresses of what runs an installation."""

from django.urls import path

from .views import installation

app_name = "operations"
urlpatterns = [
    path("installation/", installation.index, name="index"),
    path("installation/check/", installation.check_now, name="check"),
    path("installation/backups/", installation.plan_backups, name="plan-backups"),
    path("installation/backups/now/", installation.back_up_now, name="back-up"),
]
