"""Addresses of the bench."""

from django.urls import path

from .views import bench

app_name = "bench"
urlpatterns = [path("bench/", bench.index, name="index")]
