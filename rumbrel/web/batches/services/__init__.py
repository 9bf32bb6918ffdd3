"""What is done with batches."""

from .archive_results import stream_archive
from .choose_for_tracks import choices_of, choose, forget_choices, leave_out_lines, sweep_covers
from .export_list import ExportedList, export_list
from .forecast_tracks import forecast_tracks, ledger_for, plan_for, see_that_it_may_hold, source_of
from .join_collection import join_collection, start_joining
from .keep_in_step import (
    bring_in_step,
    change_digest_days,
    coverages,
    end_keeping,
    folder_to_keep,
    keep_in_step,
    keep_what_is_due,
)
from .measure_speed import expected_seconds
from .result_files import result_file, results_folder, shown_name
from .run_batch import run_batch, steps_of
from .set_originals_aside import (
    aside_refusal,
    lossless_without_equal,
    originals_of,
    put_originals_back,
    set_originals_aside,
    start_aside,
    start_putting_back,
)
from .start_batch import begin_batch, start_batch, try_again
from .verify_results import start_verifying, verify_results

__all__ = [
    "lossless_without_equal",
    "change_digest_days",
    "coverages",
    "ExportedList",
    "aside_refusal",
    "begin_batch",
    "bring_in_step",
    "choices_of",
    "choose",
    "end_keeping",
    "expected_seconds",
    "export_list",
    "folder_to_keep",
    "forecast_tracks",
    "forget_choices",
    "join_collection",
    "keep_in_step",
    "keep_what_is_due",
    "leave_out_lines",
    "ledger_for",
    "originals_of",
    "plan_for",
    "put_originals_back",
    "result_file",
    "results_folder",
    "run_batch",
    "see_that_it_may_hold",
    "set_originals_aside",
    "shown_name",
    "source_of",
    "start_aside",
    "start_batch",
    "start_joining",
    "start_putting_back",
    "start_verifying",
    "steps_of",
    "stream_archive",
    "sweep_covers",
    "try_again",
    "verify_results",
]
