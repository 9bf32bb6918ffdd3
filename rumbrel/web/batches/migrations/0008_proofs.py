
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('batches', '0007_result_covers'),
    ]

    operations = [
        migrations.AddField(
            model_name='item',
            name='digest',
            field=models.CharField(blank=True, max_length=64),
        ),
        migrations.AddField(
            model_name='item',
            name='samples_in',
            field=models.BigIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='item',
            name='samples_out',
            field=models.BigIntegerField(default=0),
        ),
    ]
