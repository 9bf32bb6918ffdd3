"""What a batch would do, track by track, before anything runs."""

from .forecast import Forecast, ForecastOptions, WhenPresent, forecast_batch, plan_sound
from .ledger import ResultLedger
from .sources import Source, gather_sources
from .steps import WRITING_ACTIONS, Action, After, Step, Warning, WarningCode

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
]
