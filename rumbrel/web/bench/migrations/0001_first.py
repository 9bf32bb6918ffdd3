import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    initial = True

    dependencies = [
        ('jobs', '0003_turns_and_pauses'),
    ]

    operations = [
        migrations.CreateModel(
            name='BenchChoice',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('begin_at_once', models.BooleanField(default=False)),
                ('targets', models.JSONField(default=list)),
            ],
        ),
        migrations.CreateModel(
            name='DiscNames',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('digest', models.CharField(max_length=40, unique=True)),
                ('names', models.JSONField(default=dict)),
            ],
        ),
        migrations.CreateModel(
            name='Drive',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('key', models.CharField(max_length=20, unique=True)),
                ('disc_key', models.CharField(blank=True, max_length=200)),
            ],
        ),
        migrations.CreateModel(
            name='TakeIn',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('drive_key', models.CharField(max_length=20)),
                ('disc_key', models.CharField(max_length=200)),
                ('disc_label', models.CharField(max_length=200)),
                ('digest', models.CharField(db_index=True, max_length=40)),
                ('contents', models.JSONField(default=dict)),
                ('names', models.JSONField(default=dict)),
                ('names_from', models.CharField(blank=True, max_length=40)),
                ('targets', models.JSONField(default=list)),
                ('chosen', models.JSONField(default=list)),
                ('readings', models.JSONField(default=dict)),
                ('kept', models.JSONField(default=list)),
                ('results', models.JSONField(default=dict)),
                ('folder', models.TextField(blank=True)),
                ('in_drive', models.BooleanField(default=True)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('job', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='jobs.job')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
    ]
