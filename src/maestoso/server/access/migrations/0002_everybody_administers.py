from typing import Any

from django.db import migrations

from maestoso.engine.clock import SystemClock


def give(apps: Any, schema_editor: Any) -> None:
    """Before there were roles, whoever could sign in could do everything."""
    now = SystemClock().now()
    grants = apps.get_model("access", "RoleGrant").objects
    for user in apps.get_model("auth", "User").objects.filter(is_active=True):
        grants.get_or_create(user=user, role="administrator", defaults={"at": now})


class Migration(migrations.Migration):
    dependencies = [("access", "0001_people"), ("auth", "0012_alter_user_first_name_max_length")]

    operations = [migrations.RunPython(give, migrations.RunPython.noop)]
