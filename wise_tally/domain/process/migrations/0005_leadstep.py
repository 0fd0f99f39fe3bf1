"""Steps of the leads' pipeline."""

import wise_tally.domain.org.fields
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('process', '0004_retired'),
    ]

    operations = [
        migrations.CreateModel(
            name='LeadStep',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('retired', models.BooleanField(default=False)),
                ('key', wise_tally.domain.org.fields.KeyField(max_length=64, unique=True)),
                ('name', models.CharField(max_length=200)),
                ('position', models.IntegerField()),
                ('typical_days_hundredths', models.IntegerField(null=True)),
            ],
            options={
                'abstract': False,
            },
        ),
    ]
