"""What was kept as fixed addresses becomes entries of the address table."""

from django.db import migrations


def _side(addresses, gateway):
    if addresses is None:
        return None
    return {"addresses": addresses, "gateways": [gateway] if gateway else None}


def forward(apps, schema_editor):
    for row in apps.get_model("crosswalks", "CrosswalkRow").objects.all():
        fixed = row.body.pop("static", None)
        if fixed is not None:
            row.body["table"] = [
                {
                    "workload": entry["workload"],
                    "nic": entry["nic"],
                    "live": _side(entry.get("live"), entry.get("live_gateway")),
                    "test": _side(entry.get("test"), entry.get("test_gateway")),
                }
                for entry in fixed
            ]
            row.save()


class Migration(migrations.Migration):
    dependencies = [("crosswalks", "0002_revisions_held_landings")]

    operations = [migrations.RunPython(forward, migrations.RunPython.noop)]
