from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("protection", "0003_key_fingerprints")]

    operations = [
        migrations.AddField(
            model_name="grouprow", name="refused", field=models.TextField(blank=True, default="")
        ),
    ]
