"""What was kept of files because their reader could not start is forgotten; it was no fact about them."""

from django.db import migrations

_SAID = "ended the reader"


def forget(apps, schema_editor):
    """A deep look that told something stays; one that only failed goes. A kept digest waits to be compared."""
    failed = apps.get_model("collection", "DeepLook").objects.filter(error__contains=_SAID)
    failed.filter(data={}).delete()
    failed.update(error="")
    apps.get_model("collection", "Fixity").objects.filter(error__contains=_SAID).update(
        state="kept", error="", checked_at=None
    )


class Migration(migrations.Migration):
    dependencies = [("collection", "0013_cut_tracks")]
    operations = [migrations.RunPython(forget, migrations.RunPython.noop)]
