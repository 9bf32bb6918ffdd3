
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    initial = True

    dependencies = [
        ('jobs', '0003_turns_and_pauses'),
    ]

    operations = [
        migrations.CreateModel(
            name='SpecCheck',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('target', models.JSONField()),
                ('target_name', models.CharField(max_length=200)),
                ('target_slug', models.CharField(max_length=80)),
                ('about', models.CharField(blank=True, max_length=200)),
                ('files', models.JSONField(default=list)),
                ('found', models.JSONField(default=dict)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('job', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='jobs.job')),
            ],
            options={
                'ordering': ('-pk',),
            },
        ),
    ]
