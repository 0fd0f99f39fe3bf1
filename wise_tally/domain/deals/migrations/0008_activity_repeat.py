"""Planned activities that come again."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('deals', '0007_lead_steps'),
    ]

    operations = [
        migrations.AddField(
            model_name='activity',
            name='repeat',
            field=models.CharField(blank=True, max_length=9),
        ),
    ]
