"""Teams and territories can be retired."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('org', '0013_workspace_not_reached_message'),
    ]

    operations = [
        migrations.AddField(
            model_name='team',
            name='retired',
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name='territory',
            name='retired',
            field=models.BooleanField(default=False),
        ),
    ]
