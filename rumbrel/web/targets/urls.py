"""Addresses of targets."""

from django.urls import path

from .views import specification, targets, where

app_name = "targets"
urlpatterns = [
    path("where/", where.where, name="where"),
    path("where/pull/", where.pull_group, name="pull-group"),
    path("targets/", targets.index, name="index"),
    path("targets/add/", targets.add, name="add"),
    path("targets/new/", targets.new, name="new"),
    path("specifications/<int:pk>/", specification.specification, name="specification"),
    path("targets/<slug:slug>/check/", specification.hold, name="hold"),
    path("targets/<slug:slug>/", targets.target, name="target"),
    path("targets/<slug:slug>/stands/", targets.stands, name="stands"),
    path("targets/<slug:slug>/sample/", targets.sample, name="sample"),
    path("targets/<slug:slug>/sample/<str:name>/", targets.sample_sound, name="sample-sound"),
    path("targets/<slug:slug>/toml/", targets.text, name="text"),
    path("targets/<slug:slug>/edit/", targets.edit, name="edit"),
    path("targets/<slug:slug>/offered/", targets.offered, name="offered"),
    path("targets/<slug:slug>/names/", targets.names, name="names"),
    path("targets/<slug:slug>/save/", targets.keep, name="keep"),
    path("targets/<slug:slug>/remove/", targets.remove, name="remove"),
    path("targets/<slug:slug>/restore/", targets.put_back, name="put-back"),
]
