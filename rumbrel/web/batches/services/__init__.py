"""What is done with batches."""

from .archive_results import stream_archive
from .forecast_tracks import BatchWish, forecast_tracks, plan_for
from .run_batch import run_batch
from .start_batch import start_batch, try_again

__all__ = [
    "BatchWish",
    "forecast_tracks",
    "plan_for",
    "run_batch",
    "start_batch",
    "stream_archive",
    "try_again",
]
