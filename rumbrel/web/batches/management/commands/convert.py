"""./run convert: files and folders for a target, without the web."""

import sys
import time
from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.conversion import Outcome, Progress, run_steps
from rumbrel.core.conversion.pool import default_jobs
from rumbrel.core.forecast import WhenPresent, forecast_batch, gather_sources
from rumbrel.core.targets import find_target
from rumbrel.web.ui.commands import ReportingCommand


class Command(ReportingCommand):
    help = "Convert files for a target; folders are walked and their tree is mirrored under DIR."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--target", required=True, metavar="SLUG")
        parser.add_argument("--out", required=True, type=Path, metavar="DIR")
        parser.add_argument("--when-present", choices=[str(each) for each in WhenPresent], default="skip")
        parser.add_argument("--jobs", type=int, default=default_jobs(), metavar="N")
        parser.add_argument("sources", nargs="+", type=Path, metavar="SRC")

    def work(self, options: dict[str, Any]) -> bool:
        target = find_target(options["target"])
        plan = forecast_batch(
            gather_sources(options["sources"]),
            target,
            options["out"],
            when_present=WhenPresent(options["when_present"]),
        )
        all_ok, begun, shows = True, time.monotonic(), sys.stderr.isatty()
        for event in run_steps(plan.steps, jobs=options["jobs"]):
            if isinstance(event, Progress):
                if shows:
                    self._show(event, time.monotonic() - begun)
                continue
            all_ok &= event.ok
            self.report(event.as_record(), _sentence(event), options)
        if shows:
            self.stderr.write("")
        return all_ok

    def _show(self, progress: Progress, elapsed: float) -> None:
        speed = progress.done_seconds / elapsed if elapsed else 0.0
        left = (progress.total_seconds - progress.done_seconds) / speed if speed else 0.0
        line = f"\r{progress.finished} of {progress.total}, {speed:.0f} times real time, {left:.0f} s left "
        self.stderr.write(line, ending="")
        self.stderr.flush()


def _sentence(outcome: Outcome) -> str:
    step = outcome.step
    text = f"{step.action}: {step.source.path}"
    if step.output:
        text += f" -> {step.output}"
    if outcome.error:
        text += f". {outcome.error}"
    return text + "".join(f" [{warning.code}] {warning.text}" for warning in outcome.warnings)
