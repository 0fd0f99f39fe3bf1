"""Processes can be retired."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('process', '0005_leadstep'),
    ]

    operations = [
        migrations.AddField(
            model_name='process',
            name='retired',
            field=models.BooleanField(default=False),
        ),
    ]
