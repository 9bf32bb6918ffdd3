"""What a batch would do, track by track, before anything runs."""

from .forecast import Forecast, Source, WhenPresent, forecast_batch, gather_sources, plan_sound
from .steps import Action, After, Step, Warning, WarningCode

__all__ = [
    "Action",
    "After",
    "Forecast",
    "Source",
    "Step",
    "Warning",
    "WarningCode",
    "WhenPresent",
    "forecast_batch",
    "gather_sources",
    "plan_sound",
]
