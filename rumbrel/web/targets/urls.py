"""Addresses of targets."""

from django.urls import path

from .views import targets, where

app_name = "targets"
urlpatterns = [
    path("where/", where.where, name="where"),
    path("where/pull/", where.pull_group, name="pull-group"),
    path("targets/", targets.index, name="index"),
]
