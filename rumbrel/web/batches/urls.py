"""Addresses of batches."""

from django.urls import path

from .views import batch, forecast

app_name = "batches"
urlpatterns = [
    path("batches/", batch.index, name="index"),
    path("batches/forecast/", forecast.forecast, name="forecast"),
    path("batches/forecast/folder/", forecast.folder, name="folder"),
    path("batches/forecast/mark/", forecast.mark, name="mark"),
    path("batches/forecast/track/<int:pk>/", forecast.track, name="track"),
    path("batches/forecast/track/<int:pk>/chosen/", forecast.track_chosen, name="track-chosen"),
    path("batches/start/", forecast.start, name="start"),
    path("batches/<int:pk>/", batch.batch, name="batch"),
    path("batches/<int:pk>/progress/", batch.progress, name="progress"),
    path("batches/<int:pk>/stop/", batch.stop, name="stop"),
    path("batches/<int:pk>/continue/", batch.resume, name="continue"),
    path("batches/<int:pk>/download/", batch.download_all, name="download-all"),
    path("results/<int:pk>/", batch.download, name="download"),
]
