"""./run demo: make the demo collection with work already done, then start with it."""

import os
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandError, CommandParser

from rumbrel.core.errors import RumbrelError
from rumbrel.demo.collection import make_collection
from rumbrel.web.jobs.processes import AlreadyRunning, claim_data_folder
from rumbrel.web.ui.commands import PlainCommand

from ...services import prepare_demo


class Command(PlainCommand):
    help = "Make the demo data and start Rumbrel with it."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--only-data", action="store_true", help="make the data and stop")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            claim_data_folder(settings.RUMBREL.data)
        except AlreadyRunning as error:
            raise CommandError(str(error)) from error
        self._say("Making the collection of the Quernstow Carillon Trust ...")
        folders = make_collection(settings.RUMBREL.data.resolve() / "demo")
        call_command("migrate", verbosity=0)
        try:
            prepare_demo(folders=folders, say=self._say)
        except RumbrelError as error:
            self.stderr.write(f"{error} The demo starts without it.")
        if not options["only_data"]:
            os.environ.setdefault("RUMBREL_TOUR", "1")
            call_command("serve")

    def _say(self, text: str) -> None:
        self.stdout.write(text)
        self.stdout.flush()
