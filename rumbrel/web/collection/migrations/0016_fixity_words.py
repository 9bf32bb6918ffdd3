from django.db import migrations

_WORDS = {"from a list of checksums": "from a checksum list", "taken as it is": "change accepted"}


def _renamed(apps, schema_editor):
    events = apps.get_model("collection", "FixityEvent").objects
    for old, new in _WORDS.items():
        events.filter(state=old).update(state=new)


class Migration(migrations.Migration):
    dependencies = [("collection", "0015_change_times")]

    operations = [migrations.RunPython(_renamed, migrations.RunPython.noop)]
