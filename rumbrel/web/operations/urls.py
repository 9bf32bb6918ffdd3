"""Addresses of what runs an installation."""

from django.urls import path

from .views import installation

app_name = "operations"
urlpatterns = [path("installation/", installation.index, name="index")]
