"""In patterns of names, performer means what the screens call so; what it meant before is called players. The kept patterns
are brought into line."""

import re

from django.db import migrations


def renew(apps, schema_editor):
    for row in apps.get_model("bench", "Delivery").objects.filter(pattern__contains="{performer"):
        row.pattern = re.sub(r"\{performer(?=[:}])", "{players", row.pattern)
        row.save(update_fields=["pattern"])


class Migration(migrations.Migration):
    dependencies = [("bench", "0004_benchchoice_owner")]
    operations = [migrations.RunPython(renew, migrations.RunPython.noop)]
