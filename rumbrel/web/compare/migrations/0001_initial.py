
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    initial = True

    dependencies = [
        ('collection', '0013_cut_tracks'),
        ('jobs', '0003_turns_and_pauses'),
    ]

    operations = [
        migrations.CreateModel(
            name='Comparison',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('start_seconds', models.FloatField(default=0)),
                ('seconds', models.FloatField()),
                ('voices', models.JSONField(default=list)),
                ('found', models.JSONField(default=list)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('job', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='jobs.job')),
                ('track', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='+', to='collection.track')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
        migrations.CreateModel(
            name='BlindTest',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('one', models.PositiveSmallIntegerField(default=0)),
                ('other', models.PositiveSmallIntegerField()),
                ('trials', models.PositiveSmallIntegerField()),
                ('answers', models.JSONField(default=list)),
                ('one_first', models.BooleanField()),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('comparison', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='tests', to='compare.comparison')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
    ]
