from django.db import migrations


class Migration(migrations.Migration):
    """The row becomes that of the app ``organisation``; the table is renamed, not copied."""

    dependencies = [
        ("evidence", "0002_register_and_stones"),
    ]

    operations = [
        migrations.AlterModelTable(name="reportsettings", table="organisation_organisation"),
        migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel(name="ReportSettings")]),
    ]
