
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('batches', '0004_several_targets'),
        ('collection', '0013_cut_tracks'),
    ]

    operations = [
        migrations.AddField(
            model_name='batch',
            name='aside_folder',
            field=models.TextField(blank=True),
        ),
        migrations.AddField(
            model_name='item',
            name='verified_at',
            field=models.DateTimeField(null=True),
        ),
        migrations.AddField(
            model_name='item',
            name='verify_error',
            field=models.TextField(blank=True),
        ),
        migrations.CreateModel(
            name='KeptInStep',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('target_name', models.TextField()),
                ('targets', models.JSONField(default=list)),
                ('options', models.JSONField(default=dict)),
                ('gone', models.JSONField(default=list)),
                ('looked_at', models.DateTimeField(null=True)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('folder', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='+', to='collection.sourcefolder')),
            ],
            options={
                'verbose_name_plural': 'kept in step',
                'ordering': ('-pk',),
            },
        ),
        migrations.AddField(
            model_name='batch',
            name='in_step',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='batches', to='batches.keptinstep'),
        ),
        migrations.CreateModel(
            name='MovedOriginal',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('source', models.JSONField()),
                ('output', models.JSONField()),
                ('batch', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='aside', to='batches.batch')),
            ],
            options={
                'ordering': ('pk',),
            },
        ),
    ]
