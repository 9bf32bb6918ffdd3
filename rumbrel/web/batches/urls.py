"""Addresses of batches."""

from django.urls import path
from django.views.decorators.http import require_safe
from django.views.generic import RedirectView

from .views import afterwards, batch, forecast, lists, next_steps, report

app_name = "batches"
_MOVED = RedirectView.as_view(pattern_name="batches:keep-choice", permanent=True)
urlpatterns = [
    path("playlists/<int:pk>/export/", lists.export, name="export-list"),
    path("batches/", batch.index, name="index"),
    # Where the page was before it was called so.
    path("batches/<int:pk>/keep/", require_safe(_MOVED), name="keep-before"),
    path("batches/next/", next_steps.panel, name="next"),
    path("batches/forecast/", forecast.forecast, name="forecast"),
    path("batches/forecast/folder/", forecast.folder, name="folder"),
    path("batches/forecast/mark/", forecast.mark, name="mark"),
    path("batches/forecast/track/<int:pk>/", forecast.track, name="track"),
    path("batches/forecast/track/<int:pk>/chosen/", forecast.track_chosen, name="track-chosen"),
    path("batches/start/", forecast.start, name="start"),
    path("batches/<int:pk>/", batch.batch, name="batch"),
    path("batches/<int:pk>/progress/", batch.progress, name="progress"),
    path("batches/<int:pk>/stop/", batch.stop, name="stop"),
    path("batches/<int:pk>/pause/", batch.pause, name="pause"),
    path("batches/<int:pk>/first/", batch.first, name="first"),
    path("batches/<int:pk>/continue/", batch.resume, name="continue"),
    path("batches/<int:pk>/report/", report.printed, name="report"),
    path("batches/<int:pk>/report.csv", report.export, {"kind": "csv"}, name="csv"),
    path("batches/<int:pk>/report.json", report.export, {"kind": "json"}, name="json"),
    path("batches/<int:pk>/folder/", report.folder, name="results"),
    path("batches/<int:pk>/begin/", batch.begin, name="begin"),
    path("batches/<int:pk>/again/", afterwards.again, name="again"),
    path("batches/<int:pk>/verify/", afterwards.verify, name="verify"),
    path("batches/<int:pk>/join/", afterwards.join, name="join"),
    path("batches/<int:pk>/specification/", afterwards.hold, name="hold"),
    path("batches/<int:pk>/originals/", afterwards.aside, name="originals"),
    path("batches/<int:pk>/originals/aside/", afterwards.set_aside, name="set-aside"),
    path("batches/<int:pk>/originals/back/", afterwards.put_back, name="put-back"),
    path("batches/<int:pk>/sync/", afterwards.choose_what_to_keep, name="keep-choice"),
    path("batches/<int:pk>/sync/start/", afterwards.keep, name="keep"),
    path("batches/sync/<int:pk>/digests/", afterwards.digest_days, name="digest-days"),
    path("batches/sync/<int:pk>/now/", afterwards.step, name="step"),
    path("batches/sync/<int:pk>/end/", afterwards.keep_no_more, name="keep-no-more"),
    path("batches/<int:pk>/download/", batch.download_all, name="download-all"),
    path("results/<int:pk>/", batch.download, name="download"),
]
