"""Steps are written down when their run has ended; those of runs that have ended are."""

from django.db import migrations, models


def ended_ones_are(apps, _schema):
    apps.get_model("runs", "Run").objects.exclude(outcome="").update(steps_written=True)


class Migration(migrations.Migration):
    dependencies = [("runs", "0008_fences_in_the_outbox")]

    operations = [
        migrations.AddField("run", "steps_written", models.BooleanField(default=False)),
        migrations.RunPython(ended_ones_are, migrations.RunPython.noop),
    ]
