"""Addresses of the collection."""

from django.urls import path

from .views import collection, fixity, folders, listening, pulls, track

app_name = "collection"
urlpatterns = [
    path("", collection.index, name="index"),
    path("tracks/", collection.rows, name="rows"),
    path("tracks/export.csv", collection.export, {"kind": "csv"}, name="export-csv"),
    path("tracks/export.jsonl", collection.export, {"kind": "jsonl"}, name="export-jsonl"),
    path("groups/", collection.groups, name="groups"),
    path("overview/", collection.overview, name="overview"),
    path("tracks/<int:pk>/", track.track, name="track"),
    path("tracks/<int:pk>/panel/", track.panel, name="panel"),
    path("tracks/<int:pk>/pull/", track.pull, name="pull"),
    path("tracks/<int:pk>/sound/", listening.sound, name="sound"),
    path("tracks/<int:pk>/picture/", listening.picture, name="picture"),
    path("tracks/<int:pk>/look/", listening.look, name="look"),
    path("tracks/<int:pk>/look/start/", listening.start_look, name="start-look"),
    path("fixity/", fixity.fixity, name="fixity"),
    path("fixity/list/", fixity.listing, name="fixity-list"),
    path("fixity/check/", fixity.check, name="check-fixity"),
    path("fixity/checksums/", fixity.take_checksums, name="take-checksums"),
    path("folders/<int:pk>/checksums/", fixity.checksums, name="checksums"),
    path("tracks/<int:pk>/as-it-is/", fixity.take, name="take-as-it-is"),
    path("pull/look/", listening.look_at_pulled, name="look-at-pulled"),
    path("pull/all/", collection.pull_all, name="pull-all"),
    path("pull/clear/", pulls.clear, name="clear-pull"),
    path("pull/undo/", pulls.undo_clear, name="undo-clear"),
    path("pull/strip/", pulls.strip, name="pull-strip"),
    path("folders/", folders.folders, name="folders"),
    path("folders/list/", folders.listing, name="folder-list"),
    path("folders/browse/", folders.browse, name="browse"),
    path("folders/count/", folders.count, name="count-files"),
    path("folders/add/", folders.add, name="add-folder"),
    path("folders/drop/", folders.drop, name="drop"),
    path("folders/drop/file/", folders.drop_file, name="drop-file"),
    path("folders/drop/end/", folders.end_drop, name="end-drop"),
    path("folders/<int:pk>/name/", folders.rename, name="rename-folder"),
    path("folders/<int:pk>/remove/", folders.remove, name="remove-folder"),
    path("folders/<int:pk>/removed/", folders.removed, name="folder-removed"),
    path("folders/<int:pk>/scan/", folders.scan, name="scan"),
    path("folders/<int:pk>/stop/", folders.stop, name="stop-scan"),
    path("folders/<int:pk>/gone/", folders.believe, name="believe-loss"),
    path("folders/<int:pk>/missing/", folders.missing, name="missing"),
    path("folders/<int:pk>/missing/remove/", folders.remove_missing, name="remove-missing"),
]
