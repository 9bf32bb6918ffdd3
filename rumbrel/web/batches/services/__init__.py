"""What is done with batches."""

from .archive_results import stream_archive
from .choose_for_tracks import choices_of, choose, forget_choices
from .forecast_tracks import forecast_tracks, plan_for
from .measure_speed import expected_seconds
from .result_files import result_file, results_folder, shown_name
from .run_batch import run_batch
from .start_batch import start_batch, try_again

__all__ = [
    "choices_of",
    "choose",
    "expected_seconds",
    "forecast_tracks",
    "forget_choices",
    "plan_for",
    "result_file",
    "results_folder",
    "run_batch",
    "shown_name",
    "start_batch",
    "stream_archive",
    "try_again",
]
