"""The pipeline of leads: their step, campaign and score, and the steps taken."""

import django.db.models.deletion
import wise_tally.domain.org.fields
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('deals', '0006_retired'),
        ('process', '0005_leadstep'),
    ]

    operations = [
        migrations.AddField(
            model_name='lead',
            name='campaign',
            field=models.CharField(blank=True, max_length=200),
        ),
        migrations.AddField(
            model_name='lead',
            name='score',
            field=models.SmallIntegerField(null=True),
        ),
        migrations.AddField(
            model_name='lead',
            name='step',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name='leads', to='process.leadstep'),
        ),
        migrations.CreateModel(
            name='LeadMove',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('at', wise_tally.domain.org.fields.MomentField()),
                ('by', models.CharField(blank=True, max_length=64)),
                ('lead', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='moves', to='deals.lead')),
                ('step', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='+', to='process.leadstep')),
            ],
            options={
                'unique_together': {('lead', 'step', 'at')},
            },
        ),
    ]
