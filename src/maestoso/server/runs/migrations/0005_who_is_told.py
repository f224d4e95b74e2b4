"""People who are told of a run."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0004_saved_views")]

    operations = [
        migrations.AddField("run", "tell", models.JSONField(default=list)),
    ]
