
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('jobs', '0002_stopping'),
    ]

    operations = [
        migrations.AddField(
            model_name='job',
            name='paused',
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name='job',
            name='place',
            field=models.IntegerField(default=0),
        ),
    ]
