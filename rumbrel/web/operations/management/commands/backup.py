"""./run backup: the state of this installation as one file, also while it works."""

from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.words import counted

from ...services import back_up, read_backup


class Command(ReportingCommand):
    help = (
        "Write a backup: database, targets, ways back and lists of results; with --with-files also results and images."
    )

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("file", type=Path, metavar="FILE", help="the backup to write, a tar file")
        parser.add_argument("--with-files", action="store_true", help="also dropped files, results and disc images")
        parser.add_argument("--check", action="store_true", help="read a backup that is there and compare its digests")

    def work(self, options: dict[str, Any]) -> bool:
        path = options["file"].absolute()
        backup = read_backup(path) if options["check"] else back_up(path=path, with_files=options["with_files"])
        record = {
            "file": str(path),
            "taken_at": backup.taken_at,
            "files": len(backup.digests),
            "bytes": backup.size_bytes,
        }
        text = f"{path}: {counted(len(backup.digests), 'file')}, {backup.size_bytes:,} bytes, read again and compared"
        self.report(record, text, options)
        return True
