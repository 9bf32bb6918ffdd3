
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('collection', '0011_watching_and_bags'),
    ]

    operations = [
        migrations.AddField(
            model_name='track',
            name='sound',
            field=models.CharField(blank=True, max_length=8),
        ),
    ]
