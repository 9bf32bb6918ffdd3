import django.db.models.deletion
from django.db import migrations, models


def several(apps, schema_editor):
    Batch, Item = apps.get_model("batches", "Batch"), apps.get_model("batches", "Item")
    for batch in Batch.objects.defer("track_ids").iterator():
        batch.targets = [batch.target]
        batch.save(update_fields=["targets"])
        Item.objects.filter(batch_id=batch.pk).update(target_slug=batch.target_slug)


def one(apps, schema_editor):
    Batch = apps.get_model("batches", "Batch")
    for batch in Batch.objects.defer("track_ids").iterator():
        batch.target = batch.targets[0] if batch.targets else {}
        batch.target_slug = batch.target.get("slug", "")
        batch.save(update_fields=["target", "target_slug"])


class Migration(migrations.Migration):

    dependencies = [
        ("batches", "0003_difference_db"),
        ("collection", "0013_cut_tracks"),
    ]

    operations = [
        migrations.AddField("batch", "targets", models.JSONField(default=list)),
        migrations.AddField("item", "target_slug", models.CharField(blank=True, max_length=80)),
        migrations.AlterField("batch", "destination", models.TextField(blank=True)),
        migrations.AlterField("batch", "target_name", models.TextField(blank=True)),
        migrations.AlterField("batch", "target_slug", models.CharField(blank=True, max_length=80)),
        migrations.RunPython(several, one),
        migrations.RemoveField("batch", "target"),
        migrations.RemoveField("batch", "target_slug"),
        migrations.CreateModel(
            name="MeasuredSpeed",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("work", models.CharField(max_length=40, unique=True)),
                ("sound_seconds", models.FloatField(default=0)),
                ("work_seconds", models.FloatField(default=0)),
            ],
        ),
        migrations.CreateModel(
            name="TrackChoice",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("owner", models.CharField(blank=True, max_length=150)),
                ("left_out", models.BooleanField(default=False)),
                ("target_slug", models.CharField(blank=True, max_length=80)),
                ("name", models.CharField(blank=True, max_length=500)),
                ("fields", models.JSONField(default=list)),
                (
                    "track",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to="collection.track"
                    ),
                ),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("owner", "track"), name="one_choice_a_track")],
            },
        ),
    ]
