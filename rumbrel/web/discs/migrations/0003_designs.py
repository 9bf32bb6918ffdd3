import django.db.models.deletion
from django.db import migrations, models



def _carry_over(apps, schema_editor):
    """What a disc was by its columns and its list, as a design."""
    disc_model, entry_model = apps.get_model("discs", "Disc"), apps.get_model("playlists", "Entry")
    for disc in disc_model.objects.select_related("playlist"):
        ids = entry_model.objects.filter(playlist=disc.playlist_id).order_by("position", "pk")
        disc.plan = {
            "medium_key": disc.medium_key, "gap_sectors": 75 * disc.gap_seconds, "speed": disc.speed,
            "texts": {"title": disc.playlist.name},
            "tracks": [
                {"key": number, "source_id": pk} for number, pk in enumerate(ids.values_list("track_id", flat=True), 1)
            ],
        }
        disc.name, disc.written_mark = disc.playlist.name, ""
        disc.save(update_fields=["plan", "name", "written_mark"])


class Migration(migrations.Migration):

    dependencies = [
        ('collection', '0013_cut_tracks'),
        ('discs', '0002_rooms'),
        ('jobs', '0003_turns_and_pauses'),
    ]

    operations = [
        migrations.CreateModel(
            name='Recorder',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('key', models.CharField(max_length=20, unique=True)),
                ('shelf_key', models.CharField(blank=True, max_length=20)),
                ('blank_state', models.CharField(blank=True, max_length=10)),
                ('open_asked', models.BooleanField(default=False)),
            ],
        ),
        migrations.CreateModel(
            name='SoundMeasure',
            fields=[
                ('track', models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, primary_key=True, related_name='disc_measure', serialize=False, to='collection.track')),
                ('mark', models.CharField(max_length=120)),
                ('data', models.TextField(blank=True)),
                ('powers', models.BinaryField(default=b'')),
            ],
        ),
        migrations.AddField(
            model_name='disc',
            name='copies_left',
            field=models.PositiveSmallIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='disc',
            name='copies_made',
            field=models.PositiveSmallIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='disc',
            name='measuring',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='jobs.job'),
        ),
        migrations.AddField(
            model_name='disc',
            name='name',
            field=models.CharField(blank=True, max_length=200),
        ),
        migrations.AddField(
            model_name='disc',
            name='parts',
            field=models.PositiveSmallIntegerField(default=1),
        ),
        migrations.AddField(
            model_name='disc',
            name='plan',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='disc',
            name='recorder_key',
            field=models.CharField(default='quick', max_length=20),
        ),
        migrations.AddField(
            model_name='disc',
            name='revision',
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='disc',
            name='stage',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='disc',
            name='trial',
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name='disc',
            name='trial_said',
            field=models.TextField(blank=True),
        ),
        migrations.CreateModel(
            name='DiscChange',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('revision', models.PositiveIntegerField()),
                ('before', models.JSONField(default=dict)),
                ('name_before', models.CharField(blank=True, max_length=200)),
                ('said', models.CharField(max_length=300)),
                ('made', models.JSONField(default=list)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('disc', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='changes', to='discs.disc')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
        migrations.CreateModel(
            name='Meeting',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('mark', models.CharField(max_length=240)),
                ('meets', models.BooleanField()),
                ('after', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='+', to='collection.track')),
                ('before', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='+', to='collection.track')),
            ],
            options={
                'constraints': [models.UniqueConstraint(fields=('before', 'after'), name='one_meeting_of_a_pair')],
            },
        ),
        migrations.RunPython(_carry_over, migrations.RunPython.noop),
        migrations.RemoveField(
            model_name='disc',
            name='gap_seconds',
        ),
        migrations.RemoveField(
            model_name='disc',
            name='medium_key',
        ),
        migrations.RemoveField(
            model_name='disc',
            name='speed',
        ),
    ]
