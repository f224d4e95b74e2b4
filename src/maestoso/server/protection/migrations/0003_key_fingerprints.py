from django.apps.registry import Apps
from django.db import migrations, models
from django.db.backends.base.schema import BaseDatabaseSchemaEditor

from maestoso.core.replication.copy_key import fingerprint
from maestoso.server.common.secret_text import unseal


def of_stored_keys(apps: Apps, schema: BaseDatabaseSchemaEditor) -> None:
    """The keys that are stored already are those that the copies have."""
    for row in apps.get_model("protection", "GroupRow").objects.exclude(key=""):
        row.key_fingerprint = fingerprint(row.code, unseal(row.key))
        row.save(update_fields=["key_fingerprint"])


class Migration(migrations.Migration):
    dependencies = [
        ("protection", "0002_tag_rules_stages_keys"),
    ]

    operations = [
        migrations.AddField(
            model_name="grouprow",
            name="key_fingerprint",
            field=models.CharField(blank=True, default="", max_length=16),
        ),
        migrations.RunPython(of_stored_keys, migrations.RunPython.noop),
    ]
