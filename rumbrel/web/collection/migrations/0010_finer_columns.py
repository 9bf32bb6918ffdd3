import django.db.models.functions.text
import django.utils.timezone
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('collection', '0009_album_order'),
    ]

    operations = [
        migrations.CreateModel(
            name='SavedView',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('owner', models.CharField(blank=True, max_length=150)),
                ('name', models.CharField(max_length=80)),
                ('query', models.TextField(blank=True)),
                ('removed_at', models.DateTimeField(null=True)),
            ],
            options={
                'ordering': ('name',),
            },
        ),
        migrations.AddField(
            model_name='track',
            name='added_at',
            field=models.DateTimeField(null=True),
        ),
        # Of the tracks that are there, it is not known.
        migrations.AlterField(
            model_name='track',
            name='added_at',
            field=models.DateTimeField(default=django.utils.timezone.now, null=True),
        ),
        migrations.AddField(
            model_name='track',
            name='directory',
            field=models.GeneratedField(db_persist=False, expression=models.Func(models.F('relative'), django.db.models.functions.text.Replace(models.F('relative'), models.Value('/'), models.Value('')), function='RTRIM', output_field=models.TextField()), output_field=models.TextField()),
        ),
        migrations.AddField(
            model_name='track',
            name='tag_bits',
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='track',
            name='year',
            field=models.PositiveSmallIntegerField(default=0),
        ),
        migrations.AddIndex(
            model_name='track',
            index=models.Index(fields=['year', 'relative', 'id'], name='collection__year_d63ca3_idx'),
        ),
        migrations.AddIndex(
            model_name='track',
            index=models.Index(fields=['folder', 'directory', 'relative', 'id'], name='collection__folder__3949ef_idx'),
        ),
        migrations.AddConstraint(
            model_name='savedview',
            constraint=models.UniqueConstraint(fields=('owner', 'name'), name='one_saved_view_of_a_name'),
        ),
    ]
