"""In patterns of names, performer means what the screens call so; what it meant before is called players. The own targets
are brought into line."""

import re

from pathlib import Path

from django.conf import settings
from django.db import migrations

from rumbrel.core.files import write_whole


def renewed(value):
    if isinstance(value, str):
        return re.sub(r"\{performer(?=[:}])", "{players", value)
    if isinstance(value, list):
        return [renewed(each) for each in value]
    if isinstance(value, dict):
        return {key: renewed(each) for key, each in value.items()}
    return value


def renew(apps, schema_editor):
    folder = Path(settings.RUMBREL.targets)
    for path in folder.glob("*.toml") if folder.is_dir() else ():
        text = path.read_text(encoding="utf-8")
        if renewed(text) != text:
            write_whole(path, renewed(text).encode())


class Migration(migrations.Migration):
    dependencies = [("targets", "0001_initial")]
    operations = [migrations.RunPython(renew, migrations.RunPython.noop)]
