"""What a batch would do, track by track, before anything runs."""

from .forecast import SAME_CONTENT, Forecast, ForecastOptions, WhenPresent, forecast_batch
from .ledger import Entry, ResultLedger, append_entry, source_state
from .planning import plan_sound, treated
from .sources import Source, Walk, gather_sources, walk_folder
from .steps import WRITING_ACTIONS, Action, After, Step, Warning, WarningCode, warning_records

__all__ = [
    "Action",
    "After",
    "Entry",
    "Forecast",
    "ForecastOptions",
    "ResultLedger",
    "SAME_CONTENT",
    "Source",
    "Step",
    "Walk",
    "WRITING_ACTIONS",
    "Warning",
    "WarningCode",
    "WhenPresent",
    "append_entry",
    "forecast_batch",
    "gather_sources",
    "plan_sound",
    "source_state",
    "treated",
    "walk_folder",
    "warning_records",
]
