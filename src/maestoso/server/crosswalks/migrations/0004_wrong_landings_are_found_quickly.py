"""Among ten thousand landings the few that are wrong are asked for at every edit of a plan."""

from django.db import migrations, models


def forward(apps, schema_editor):
    apps.get_model("crosswalks", "HeldRow").objects.exclude(wrong="").update(is_wrong=True)


class Migration(migrations.Migration):
    dependencies = [("crosswalks", "0003_fixed_addresses_become_table")]

    operations = [
        migrations.AddField("heldrow", "is_wrong", models.BooleanField(default=False)),
        migrations.RunPython(forward, migrations.RunPython.noop),
        migrations.AddIndex(
            "heldrow", models.Index(fields=["site", "is_wrong"], name="wrong_landings_of_a_site")
        ),
    ]
