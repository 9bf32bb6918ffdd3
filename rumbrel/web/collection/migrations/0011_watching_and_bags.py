
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('collection', '0010_finer_columns'),
        ('jobs', '0002_stopping'),
    ]

    operations = [
        migrations.AddField(
            model_name='sourcefolder',
            name='fixity_days',
            field=models.PositiveSmallIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='sourcefolder',
            name='scanned_state',
            field=models.CharField(blank=True, max_length=32),
        ),
        migrations.AddField(
            model_name='sourcefolder',
            name='seen_state',
            field=models.CharField(blank=True, max_length=32),
        ),
        migrations.AddField(
            model_name='sourcefolder',
            name='watched',
            field=models.BooleanField(default=False),
        ),
        migrations.CreateModel(
            name='BagWork',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=120)),
                ('description', models.TextField(blank=True)),
                ('track_ids', models.JSONField(default=list)),
                ('path', models.TextField(blank=True)),
                ('job', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='jobs.job')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
    ]
