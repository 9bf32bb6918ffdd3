"""./run restore: put a backup in the place of the data folder."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandParser
from django.db import connections

from rumbrel.core.files import output_errors
from rumbrel.web.jobs.processes import claim_data_folder
from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.words import counted

from ...services import restore


class Command(ReportingCommand):
    help = "Restore a backup. What is in the data folder now is kept beside it; Rumbrel must not be running."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("file", type=Path, metavar="FILE", help="the backup")

    def work(self, options: dict[str, Any]) -> bool:
        with output_errors(settings.RUMBREL.data.parent):
            settings.RUMBREL.data.mkdir(parents=True, exist_ok=True)
        claim_data_folder(settings.RUMBREL.data)
        connections.close_all()
        backup, aside = restore(path=options["file"].absolute())
        call_command("migrate", verbosity=0)
        record = {"files": len(backup.digests), "taken_at": backup.taken_at, "aside": str(aside or "")}
        kept = f" What was there is kept in {aside}." if aside else ""
        text = f"Restored {counted(len(backup.digests), 'file')} as of {backup.taken_at[:16]}.{kept}"
        self.report(record, text, options)
        return True
