"""The firm's message to somebody who was not reached."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('org', '0012_token_use'),
    ]

    operations = [
        migrations.AddField(
            model_name='workspace',
            name='not_reached_message',
            field=models.TextField(blank=True),
        ),
    ]
