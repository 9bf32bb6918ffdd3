"""What every command shares: reports one JSON object a line, sentences for people, exit status."""

import argparse
import json
import os
import sys
from typing import Any

from django.core.checks import Tags
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import OperationalError

from rumbrel.core.errors import RumbrelError

from .outages import database_reason

__all__ = ["PlainCommand", "ReportingCommand", "printable"]


_READER_GONE = 141
"""As shells state it of a program that was ended by a closed pipe."""


class PlainCommand(BaseCommand):
    """A command whose help tells of its own options alone; the framework's are still taken."""

    suppressed_base_arguments = {
        "--version", "--verbosity", "--settings", "--pythonpath", "--traceback", "--no-color", "--force-color",
    }  # fmt: skip

    def create_parser(self, prog_name: str, subcommand: str, **kwargs: Any) -> CommandParser:
        parser = super().create_parser(prog_name, subcommand, **kwargs)
        parser.prog = f"./run {subcommand}"
        for action in parser._actions:  # noqa: SLF001 - the framework gives no other way to this one
            if action.dest == "skip_checks":
                action.help = argparse.SUPPRESS
        return parser


class ReportingCommand(PlainCommand):
    """Subclasses do their work in `work` and return whether all went well."""

    failure_status = 1
    # Commands are called in loops: addresses and templates, which they do not use, are for the server to check.
    requires_system_checks = [Tags.models]

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--json", action="store_true", help="one JSON object a line")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            went_well = self.work(options)
        except RumbrelError as error:
            raise CommandError(str(error), returncode=self.failure_status) from error
        except OperationalError as error:
            raise CommandError(database_reason(error), returncode=self.failure_status) from error
        except BrokenPipeError:
            # Whoever read the lines has had enough; what is finished stays. Python would complain of the rest at its end.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            sys.exit(_READER_GONE)
        except KeyboardInterrupt:
            self.stderr.write("Stopped. What is finished stays, what was begun is gone.")
            sys.exit(130)
        if not went_well:
            sys.exit(self.failure_status)

    def work(self, options: dict[str, Any]) -> bool:
        raise NotImplementedError

    def report(self, record: dict[str, Any], text: str | list[str], options: dict[str, Any]) -> None:
        """One result: the record with --json, else the sentence, or the sentences, a line each."""
        sentences = [text] if isinstance(text, str) else text
        lines = [json.dumps(record, ensure_ascii=True)] if options["json"] else map(printable, sentences)
        for line in lines:
            self.stdout.write(line)
        self.stdout.flush()


def printable(text: str) -> str:
    """Names may hold line breaks and undecodable bytes; a line stays a line."""
    flat = "".join(sign if sign.isprintable() else " " for sign in text)
    return flat.encode("utf-8", "replace").decode("utf-8")
