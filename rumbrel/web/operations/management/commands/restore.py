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

from ...services import BackupRefused, missing_places, restore


class Command(ReportingCommand):
    help = "Restore a backup. What is in the data folder now is kept beside it; Rumbrel must not be running."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("file", type=Path, metavar="FILE", help="the backup")
        parser.add_argument(
            "--place", action="append", default=[], metavar="OLD=NEW",
            help="a folder that was OLD when the backup was made is NEW now; can be given several times",
        )  # fmt: skip

    def work(self, options: dict[str, Any]) -> bool:
        with output_errors(settings.RUMBREL.data.parent):
            settings.RUMBREL.data.mkdir(parents=True, exist_ok=True)
        claim_data_folder(settings.RUMBREL.data)
        connections.close_all()
        places = dict(_place(text) for text in options["place"])
        backup, aside = restore(path=options["file"].absolute(), places=places)
        call_command("migrate", verbosity=0)
        missing = missing_places()
        record = {
            "files": len(backup.digests), "taken_at": backup.taken_at, "aside": str(aside or ""),
            "missing": [{"path": each.path, "what": each.what} for each in missing],
        }  # fmt: skip
        kept = f" What was there is kept in {aside}." if aside else ""
        text = f"Restored {counted(len(backup.digests), 'file')} as of {backup.taken_at[:16]}.{kept}"
        self.report(record, text, options)
        for each in missing:
            hint = "Connect its disk, or restore again with --place OLD=NEW."
            self.report({"missing": each.path}, f"not found: {each.path} ({each.what}). {hint}", options)
        return True


def _place(text: str) -> tuple[Path, Path]:
    old, sign, new = text.partition("=")
    if not sign or not old.startswith("/") or not new:
        raise BackupRefused(f"--place {text} names no old and new folder. Write --place /old/folder=/new/folder.")
    return Path(old), Path(new).absolute()
