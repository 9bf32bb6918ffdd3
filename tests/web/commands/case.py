"""A command run with --json: what it said and how it ended."""

import io
import json

from django.core.management import call_command
from django.core.management.base import CommandError

from tests.web.case import WebCase


class CommandCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.out = self.folder / "out"

    def run_command(self, *words: str) -> tuple[list[dict], int]:
        out, status = io.StringIO(), 0
        try:
            call_command(*words, "--json", stdout=out)
        except CommandError as error:
            status = error.returncode
            self.error = str(error)
        except SystemExit as error:
            status = int(error.code or 0)
        return [json.loads(line) for line in out.getvalue().splitlines()], status
