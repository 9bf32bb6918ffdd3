"""In patterns of names, performer means what the screens call so; what it meant before is called players. The own targets
are brought into line."""

import re
from pathlib import Path

from django.conf import settings
from django.db import migrations

from rumbrel.core.files import write_whole


def renew(apps, schema_editor):
    folder = Path(settings.RUMBREL.targets)
    for path in folder.glob("*.toml") if folder.is_dir() else ():
        # As bytes: a file that is no text is told of where targets are read, and keeps nothing from starting.
        kept = path.read_bytes()
        renewed = re.sub(rb"\{performer(?=[:}])", b"{players", kept)
        if renewed != kept:
            write_whole(path, renewed)


class Migration(migrations.Migration):
    dependencies = [("targets", "0001_initial")]
    operations = [migrations.RunPython(renew, migrations.RunPython.noop)]
