
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('batches', '0006_bare_results'),
    ]

    operations = [
        migrations.AddField(
            model_name='trackchoice',
            name='cover',
            field=models.TextField(blank=True),
        ),
    ]
