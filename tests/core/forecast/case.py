"""A forecast over files of a folder of its own."""

from rumbrel.core.forecast import (
    Forecast,
    ForecastOptions,
    ResultLedger,
    forecast_batch,
    gather_sources,
)
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase


class PlanCase(FolderCase):
    def plan(
        self, *names: str, target: str = "archive-flac", ledger: ResultLedger | None = None, **more: object
    ) -> Forecast:
        options = ForecastOptions(**more)  # type: ignore[arg-type]
        sources = gather_sources([self.folder / name for name in names])
        return forecast_batch(sources, find_target(target), self.out, options=options, ledger=ledger)
