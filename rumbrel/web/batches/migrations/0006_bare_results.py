
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('batches', '0005_afterwards'),
    ]

    operations = [
        migrations.AddField(
            model_name='trackchoice',
            name='bare',
            field=models.BooleanField(default=False),
        ),
    ]
