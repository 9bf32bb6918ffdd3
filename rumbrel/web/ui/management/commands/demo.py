"""./run demo: make the demo collection, then start with it."""

from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser

from demo.collection import make_collection
from rumbrel.core.errors import RumbrelError
from rumbrel.web.collection.models import SourceFolder
from rumbrel.web.collection.services import add_folder


class Command(BaseCommand):
    help = "Make the demo data and start Rumbrel with it."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--only-data", action="store_true", help="make the data and stop")

    def handle(self, *args: Any, **options: Any) -> None:
        folder = settings.DATA / "demo" / "Ostwick"
        self.stdout.write("Making the Ostwick collection ...")
        self.stdout.flush()
        made = make_collection(folder)
        self.stdout.write(f"{made} files are in {folder}.")
        call_command("migrate", verbosity=0)
        if options["only_data"]:
            return
        if not SourceFolder.objects.filter(path=str(folder.resolve())).exists():
            try:
                add_folder(str(folder))
            except RumbrelError as error:
                self.stderr.write(f"{error} The demo folder is not in the collection.")
        call_command("serve")
