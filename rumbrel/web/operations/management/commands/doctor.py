"""./run doctor: check this installation, with what to do where something is wrong."""

from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.records import as_record
from rumbrel.core.verdict import Verdict
from rumbrel.web.ui.commands import ReportingCommand

from ...services import check_self


class Command(ReportingCommand):
    help = "Check packages, folders, room, permissions, clock, database and workers."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument(
            "--stopped", action="store_true", help="Rumbrel is not meant to run: workers are not looked for"
        )

    def work(self, options: dict[str, Any]) -> bool:
        checks = check_self(running=not options["stopped"])
        for check in checks:
            remedy = f". {check.remedy}" if check.remedy else ""
            self.report(as_record(check), f"{check.verdict}: {check.name}: {check.said}{remedy}", options)
        return all(check.verdict is not Verdict.FAILED for check in checks)
