"""Every address of the application."""

from django.conf import settings
from django.urls import path

from rumbrel.web.batches import views as batches
from rumbrel.web.bench import views as bench
from rumbrel.web.collection import views as collection
from rumbrel.web.discs import views as discs
from rumbrel.web.playlists import views as playlists
from rumbrel.web.targets import views as targets
from rumbrel.web.ui import views as ui

urlpatterns = [
    path("", collection.index, name="collection"),
    path("tracks/<int:pk>/", collection.track, name="track"),
    path("tracks/<int:pk>/pull/", collection.pull, name="pull"),
    path("pull/all/", collection.pull_all, name="pull-all"),
    path("pull/clear/", collection.clear_pull, name="clear-pull"),
    path("pull/undo/", collection.undo_clear, name="undo-clear"),
    path("pull/strip/", ui.pull_strip, name="pull-strip"),
    path("work/", ui.head_work, name="head-work"),
    path("folders/", collection.folders, name="folders"),
    path("folders/add/", collection.add_folder, name="add-folder"),
    path("folders/drop/", collection.drop, name="drop"),
    path("folders/<int:pk>/scan/", collection.scan, name="scan"),
    path("scans/<int:pk>/stop/", collection.stop_scan, name="stop-scan"),
    path("where/", targets.where, name="where"),
    path("targets/", targets.index, name="targets"),
    path("batches/", batches.index, name="batches"),
    path("batches/forecast/", batches.forecast, name="forecast"),
    path("batches/start/", batches.start, name="start-batch"),
    path("batches/<int:pk>/", batches.batch, name="batch"),
    path("batches/<int:pk>/cancel/", batches.cancel, name="cancel-batch"),
    path("batches/<int:pk>/continue/", batches.resume, name="resume-batch"),
    path("batches/<int:pk>/download/", batches.download_all, name="download-all"),
    path("results/<int:pk>/", batches.download, name="download"),
    path("playlists/", playlists.index, name="playlists"),
    path("playlists/make/", playlists.make, name="make-playlist"),
    path("playlists/<int:pk>/", playlists.playlist, name="playlist"),
    path("playlists/<int:pk>/order/", playlists.reorder, name="reorder"),
    path("playlists/<int:pk>/delete/", playlists.delete, name="delete-playlist"),
    path("playlists/<int:pk>/disc/", discs.lay_out, name="lay-out"),
    path("entries/<int:pk>/move/", playlists.move, name="move-entry"),
    path("entries/<int:pk>/remove/", playlists.remove, name="remove-entry"),
    path("discs/", discs.index, name="discs"),
    path("discs/<int:pk>/", discs.disc, name="disc"),
    path("discs/<int:pk>/change/", discs.change, name="change-disc"),
    path("discs/<int:pk>/write/", discs.write, name="write-disc"),
    path("discs/<int:pk>/stop/", discs.stop, name="stop-disc"),
    path("discs/<int:pk>/image/<str:kind>/", discs.download, name="disc-image"),
    path("bench/", bench.index, name="bench"),
    path("help/", ui.help_page, name="help"),
]
if settings.SHOW_GALLERY:
    urlpatterns.append(path("gallery/", ui.gallery, name="gallery"))
