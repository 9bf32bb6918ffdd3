import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('playlists', '0003_deleted'),
    ]

    operations = [
        migrations.AddField(
            model_name='playlist',
            name='brought',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='playlist',
            name='notes',
            field=models.TextField(blank=True),
        ),
        migrations.AddField(
            model_name='playlist',
            name='revision',
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.CreateModel(
            name='ListChange',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('revision', models.PositiveIntegerField()),
                ('before', models.TextField()),
                ('said', models.CharField(max_length=200)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('playlist', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='changes', to='playlists.playlist')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
    ]
