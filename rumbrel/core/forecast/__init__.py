"""What a batch would do, track by track, before anything runs."""

from .forecast import Forecast, ForecastOptions, WhenPresent, forecast_batch
from .ledger import ResultLedger
from .planning import plan_sound, treated
from .sources import Source, gather_sources
from .steps import WRITING_ACTIONS, Action, After, Step, Warning, WarningCode, warning_records

__all__ = [
    "Action",
    "After",
    "Forecast",
    "ForecastOptions",
    "ResultLedger",
    "Source",
    "Step",
    "WRITING_ACTIONS",
    "Warning",
    "WarningCode",
    "WhenPresent",
    "forecast_batch",
    "gather_sources",
    "plan_sound",
    "treated",
    "warning_records",
]
