
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('collection', '0012_chosen_sound'),
    ]

    operations = [
        migrations.AddField(
            model_name='track',
            name='cut_of',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, related_name='cuts', to='collection.track'),
        ),
    ]
